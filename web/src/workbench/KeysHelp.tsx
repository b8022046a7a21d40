import { Dialog } from "radix-ui";
import { Fragment } from "react";
import { Frame } from "../ui/Frame";

const keys: [string, string][] = [
  ["↑ ↓", "go from line to line; Home and End to the first and the last"],
  ["→ ←", "open a line, close it; go in, go out"],
  ["Space", "open or close a line"],
  ["F2", "open a line with the cursor in its first field"],
  ["Enter", "add a line below"],
  ["Alt ↑ ↓", "move a line up or down, also into a case and out of it"],
  ["Alt → ←", "move a line into the one above, or out of the one that holds it"],
  ["Delete", "remove a line"],
  ["Ctrl D", "duplicate a line"],
  ["Ctrl C, X, V", "copy, cut, paste lines as text, also into another workflow"],
  ["Ctrl Z, Ctrl Shift Z", "undo, do again"],
  ["Shift F10", "everything that can be done with a line"],
  ["Ctrl K", "find"],
];

/** The keys of the outline. */
export function KeysHelp({ open, onOpen }: { open: boolean; onOpen: (open: boolean) => void }) {
  return (
    <Dialog.Root open={open} onOpenChange={onOpen}>
      <Frame title="Keys, while a line has the focus">
        <dl className="grid grid-cols-[150px_1fr] gap-x-4 gap-y-1.5">
          {keys.map(([k, words]) => (
            <Fragment key={k}>
              <dt>
                <kbd className="font-mono text-xs">{k}</kbd>
              </dt>
              <dd>{words}</dd>
            </Fragment>
          ))}
        </dl>
        <div className="mt-5 flex justify-end">
          <Dialog.Close className="btn">Close</Dialog.Close>
        </div>
      </Frame>
    </Dialog.Root>
  );
}
