import { Dialog } from "radix-ui";
import { useState } from "react";
import { toast } from "sonner";
import { useStarting } from "../api/workflows";
import { Frame } from "../ui/Frame";
import { Refusal, type Workflow } from "../api/client";
import { useStarts } from "../run/useStarts";
import { StartForm } from "./StartForm";

/** Starts a run of the live revision: at once, or after asking for what it starts with. */
export function StartByHand({ workflow }: { workflow: Workflow }) {
  const [open, setOpen] = useState(false);
  const asks = useStarting(workflow.name);
  const start = useStarts(workflow.name, workflow.title, (e) => {
    if (!open) toast.error(e instanceof Refusal ? e.message : "It could not be started.");
  });
  const nothing = asks.data?.alone === true && asks.data.fields.length === 0;
  return (
    <Dialog.Root
      open={open}
      onOpenChange={(o) => {
        start.reset();
        setOpen(o);
      }}
    >
      <button
        className="btn min-w-[62px] justify-center"
        disabled={!asks.data || start.busy}
        onClick={() => {
          if (nothing) start.begin({});
          else setOpen(true);
        }}
      >
        {nothing ? "Start" : "Start…"}
      </button>
      <Frame title={`Start “${workflow.title}”`}>
        {asks.data && (
          <StartForm
            workflow={workflow.name}
            fields={asks.data.fields}
            error={start.error}
            busy={start.busy}
            onStart={(item) => {
              start.begin({ items: [item] });
            }}
          />
        )}
      </Frame>
      {start.asks}
    </Dialog.Root>
  );
}
