import { useNavigate } from "@tanstack/react-router";
import { Dialog } from "radix-ui";
import { useState } from "react";
import { toast } from "sonner";
import { type Workflow } from "../api/client";
import { useStart, useStarting } from "../api/workflows";
import { Frame } from "../ui/Frame";
import { Refusal, type Schemas } from "../api/client";
import { tellStarted } from "../run/started";
import { StartForm } from "./StartForm";

/** Starts a run of the live revision: at once, or after asking for what it starts with. */
export function StartByHand({ workflow }: { workflow: Workflow }) {
  const navigate = useNavigate();
  const [open, setOpen] = useState(false);
  const asks = useStarting(workflow.name);
  const start = useStart(workflow.name);
  const begin = (body: Schemas["Items"]) => {
    start.mutate(body, {
      onSuccess: (s) => {
        tellStarted(s);
        void navigate({ to: "/runs/$run", params: { run: s.run } });
      },
      onError: (e) => {
        if (!open) toast.error(e instanceof Refusal ? e.message : "It could not be started.");
      },
    });
  };
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
        disabled={!asks.data || start.isPending}
        onClick={() => {
          if (nothing) begin({});
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
            busy={start.isPending}
            onStart={(item) => {
              begin({ items: [item] });
            }}
          />
        )}
      </Frame>
    </Dialog.Root>
  );
}
