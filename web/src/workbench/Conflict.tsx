import { Dialog } from "radix-ui";
import type { Workflow } from "../api/client";
import type { Edit } from "../api/draft";
import { Frame } from "../ui/Frame";
import { brief } from "../ui/words";
import { find } from "./lines";
import { seenBy } from "./seen";

/** Edits of a setting that somebody else has changed in between. */
export interface Overtaken {
  edits: Edit[];
  by: string;
}

interface Props {
  overtaken: Overtaken | undefined;
  workflow: Workflow;
  onSettle: (mine: boolean) => void;
}

/** Both versions of what two people have changed, to choose from. */
export function Conflict({ overtaken, workflow, onSettle }: Props) {
  return (
    <Dialog.Root
      open={overtaken !== undefined}
      onOpenChange={(o) => {
        if (!o) onSettle(false);
      }}
    >
      {overtaken && (
        <Frame title={`${overtaken.by} has changed the same`}>
          {overtaken.edits.map((e, i) => {
            const line = find(workflow.lines, e.step);
            return (
              <div key={i} className="mb-4">
                <div className="mb-1.5">
                  {line ? (
                    <>
                      <b>Line {line.number}</b>, {line.sentence}
                    </>
                  ) : (
                    <b>{e.step ?? "The workflow"}</b>
                  )}
                  : {(e.key ?? "").split(".").at(-1)?.replaceAll("_", " ")}
                </div>
                <dl className="grid grid-cols-[96px_1fr] gap-y-1">
                  <dt className="text-second">yours</dt>
                  <dd className="font-mono text-xs break-words">{brief(e.value)}</dd>
                  <dt className="text-second">{overtaken.by}</dt>
                  <dd className="font-mono text-xs break-words">{brief(seenBy(workflow, e)?.value)}</dd>
                </dl>
              </div>
            );
          })}
          <div className="mt-5 flex justify-end gap-2">
            <Dialog.Close className="btn">Leave {overtaken.by}’s</Dialog.Close>
            <button
              className="btn btn-main"
              onClick={() => {
                onSettle(true);
              }}
            >
              Use mine
            </button>
          </div>
        </Frame>
      )}
    </Dialog.Root>
  );
}
