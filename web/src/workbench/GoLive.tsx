import { useQueryClient } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useState } from "react";
import { toast } from "sonner";
import { type Workflow } from "../api/client";
import { useDiff, useGoLive } from "../api/workflows";
import { Frame } from "../ui/Frame";
import { Trouble, Waiting } from "../ui/parts";

/** Going live, in sentences: what starts it, what changes, what is to mend. */
export function GoLive({ workflow }: { workflow: Workflow }) {
  const client = useQueryClient();
  const [open, setOpen] = useState(false);
  const [seen, setSeen] = useState(false);
  const diff = useDiff(workflow.name, open);
  const live = useGoLive(workflow);
  const errors = workflow.problems.filter((p) => p.severity === "error");
  const warnings = workflow.problems.filter((p) => p.severity === "warning");
  return (
    <Dialog.Root
      open={open}
      onOpenChange={(o) => {
        setOpen(o);
        setSeen(false);
        void client.invalidateQueries({ queryKey: ["diff", workflow.name] });
      }}
    >
      <Dialog.Trigger className="btn btn-main">Go live…</Dialog.Trigger>
      <Frame title={`Put “${workflow.title}” live`}>
        <p className="mb-3 font-serif text-[15.5px]">
          {workflow.trigger}, it runs from now on with these {workflow.lines.length} lines.
          {workflow.limit_sentences?.map((s) => ` ${s}.`)}
        </p>
        <h3 className="label">
          {workflow.live ? `What changes since revision ${String(workflow.live)}` : "What it will do"}
        </h3>
        {diff.isPending && <Waiting what="Looking at what changes" />}
        <Trouble error={diff.error} />
        <ul className="mb-3 list-disc space-y-0.5 pl-5 text-second">
          {diff.data?.changes.map((c, i) => (
            <li key={i}>{c.sentence}</li>
          ))}
          {diff.data?.changes.length === 0 && <li>Nothing; the draft is the same.</li>}
        </ul>
        {errors.length > 0 && (
          <div className="mb-3">
            <h3 className="label text-rust">To mend first</h3>
            {errors.map((p, i) => (
              <div key={i} className="text-rust">
                {p.message} {p.cure}
              </div>
            ))}
          </div>
        )}
        {warnings.length > 0 && (
          <div className="mb-3">
            <h3 className="label text-amber">To look at</h3>
            {warnings.map((p, i) => (
              <div key={i} className="text-amber">
                {p.message} {p.cure}
              </div>
            ))}
            <label className="mt-2 flex items-center gap-2">
              <input
                type="checkbox"
                className="accent-leaf"
                checked={seen}
                onChange={(e) => {
                  setSeen(e.target.checked);
                }}
              />
              I have looked at {warnings.length === 1 ? "this" : "these"}
            </label>
          </div>
        )}
        <Trouble error={live.error} />
        <div className="mt-4 flex justify-end gap-2">
          <Dialog.Close className="btn">Not yet</Dialog.Close>
          <button
            className="btn btn-main"
            // Nobody agrees to what was not shown yet, and the list moves this button when it comes.
            disabled={diff.isPending || errors.length > 0 || (warnings.length > 0 && !seen) || live.isPending}
            onClick={() => {
              live.mutate(undefined, {
                onSuccess: (w) => {
                  setOpen(false);
                  toast(`Live as revision ${String(w.live)}`);
                },
              });
            }}
          >
            Put it live
          </button>
        </div>
      </Frame>
    </Dialog.Root>
  );
}
