import { Dialog } from "radix-ui";
import { useState } from "react";
import { toast } from "sonner";
import type { Workflow } from "../api/client";
import { type WhatWasKept, useUnpause } from "../api/schedule";
import { Frame } from "../ui/Frame";
import { Trouble } from "../ui/parts";
import { plural } from "../ui/words";

const was = (n: number) => (n === 1 ? "was" : "were");

/** Lets a paused workflow go on. Where calls were kept meanwhile, it asks what becomes of them. */
export function GoOn({ workflow }: { workflow: Workflow }) {
  const unpause = useUnpause(workflow.name);
  const [open, setOpen] = useState(false);
  const kept = workflow.kept ?? 0;
  const on = (what?: WhatWasKept) => {
    unpause.mutate(what, {
      onSuccess: () => {
        setOpen(false);
        toast(
          what === "start"
            ? "It goes on, with the calls that were kept first"
            : what === "dismiss"
              ? "It goes on; the calls that were kept are dismissed"
              : "It starts again, as it was live",
        );
      },
    });
  };
  return (
    <>
      <button
        className="hover:text-ink hover:underline"
        disabled={unpause.isPending}
        onClick={() => {
          if (kept > 0) setOpen(true);
          else on();
        }}
      >
        Let it go on
      </button>
      {!open && <Trouble error={unpause.error} />}
      <Dialog.Root open={open} onOpenChange={setOpen}>
        <Frame title={`Let “${workflow.title}” go on`}>
          <p>
            {plural(kept, "call")} {was(kept)} kept while it was paused. What becomes of{" "}
            {kept === 1 ? "it" : "them"}?
          </p>
          <Trouble error={unpause.error} />
          <div className="mt-4 flex justify-end gap-2">
            <Dialog.Close className="btn btn-plain">Stay paused</Dialog.Close>
            <button
              className="btn"
              disabled={unpause.isPending}
              onClick={() => {
                on("dismiss");
              }}
            >
              Dismiss {kept === 1 ? "it" : "them"}
            </button>
            <button
              className="btn btn-main"
              disabled={unpause.isPending}
              onClick={() => {
                on("start");
              }}
            >
              {kept === 1 ? "Start it" : "Start them in their order"}
            </button>
          </div>
        </Frame>
      </Dialog.Root>
    </>
  );
}
