import { Dialog } from "radix-ui";
import type { Line } from "../api/client";
import { Frame } from "../ui/Frame";
import type { Breaking } from "./useLines";

/** What an edit would break, before it is made. */
export function Breaks({
  breaking,
  lines,
  onSettle,
}: {
  breaking: Breaking | undefined;
  lines: Line[];
  onSettle: (go: boolean) => void;
}) {
  return (
    <Dialog.Root
      open={breaking !== undefined}
      onOpenChange={(o) => {
        if (!o) onSettle(false);
      }}
    >
      {breaking && (
        <Frame title="This would no longer work">
          <ul className="mb-4 space-y-1.5">
            {breaking.problems.slice(0, 8).map((p, i) => {
              const line = lines.find((l) => l.name === p.step && l.number);
              return (
                <li key={i}>
                  {line && (
                    <b>
                      Line {line.number}, {line.sentence}:{" "}
                    </b>
                  )}
                  {p.message} {p.cure}
                </li>
              );
            })}
            {breaking.problems.length > 8 && (
              <li className="text-second">and {breaking.problems.length - 8} more</li>
            )}
          </ul>
          <p className="text-second">It can be undone afterwards.</p>
          <div className="mt-5 flex justify-end gap-2">
            <Dialog.Close className="btn">Leave it as it is</Dialog.Close>
            <button
              className="btn btn-main"
              onClick={() => {
                onSettle(true);
              }}
            >
              Do it all the same
            </button>
          </div>
        </Frame>
      )}
    </Dialog.Root>
  );
}
