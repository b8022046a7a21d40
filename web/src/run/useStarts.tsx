import { useNavigate } from "@tanstack/react-router";
import { Dialog } from "radix-ui";
import { useState } from "react";
import { Refusal, type Schemas } from "../api/client";
import { useStart } from "../api/workflows";
import { Frame } from "../ui/Frame";
import { tellStarted } from "./started";

/** Starts runs by hand and goes to the first of them. Of a paused workflow it asks first: render asks. */
export function useStarts(workflow: string, title: string, onError?: (e: Error) => void) {
  const navigate = useNavigate();
  const start = useStart(workflow);
  const [wanted, setWanted] = useState<Schemas["Items"]>();
  const begin = (body: Schemas["Items"]) => {
    start.mutate(body, {
      onSuccess: (s) => {
        setWanted(undefined);
        tellStarted(s);
        void navigate({ to: "/runs/$run", params: { run: s.run } });
      },
      onError: (e) => {
        if (e instanceof Refusal && e.kind === "paused") setWanted(body);
        else onError?.(e);
      },
    });
  };
  const paused = start.error instanceof Refusal && start.error.kind === "paused";
  const leave = () => {
    setWanted(undefined);
    start.reset();
  };
  return {
    begin,
    busy: start.isPending,
    error: paused ? null : start.error,
    reset: start.reset,
    asks: (
      <Dialog.Root
        open={wanted !== undefined}
        onOpenChange={(o) => {
          if (!o) leave();
        }}
      >
        <Frame title={`“${title}” is paused`}>
          <p>Nothing starts it by itself. A start by hand makes this one run; it stays paused.</p>
          <div className="mt-4 flex justify-end gap-2">
            <Dialog.Close className="btn btn-plain">Leave it</Dialog.Close>
            <button
              type="button"
              className="btn btn-main"
              disabled={start.isPending}
              onClick={() => {
                begin({ ...wanted, while_paused: true });
              }}
            >
              Start it all the same
            </button>
          </div>
        </Frame>
      </Dialog.Root>
    ),
  };
}
