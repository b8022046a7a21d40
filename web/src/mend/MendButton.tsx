import { Dialog } from "radix-ui";
import { useState } from "react";
import { Frame } from "../ui/Frame";
import { Trouble } from "../ui/parts";
import { PlanWords } from "./PlanWords";
import { Progress } from "./Progress";
import { useMend, useMending, usePlan, type Wish } from "../api/mending";

/** A button that first tells what would happen, and then does it, with a word on how far it is. */
export function MendButton({ wish, words, main = false }: { wish: Wish; words: string; main?: boolean }) {
  const [open, setOpen] = useState(false);
  const [id, setId] = useState<string>();
  const plan = usePlan(wish, open && id === undefined);
  const { begin } = useMend();
  const mending = useMending(id);
  const close = (to: boolean) => {
    setOpen(to);
    if (!to) {
      setId(undefined);
      begin.reset();
    }
  };
  const refused = (plan.data?.refused?.length ?? 0) > 0 || plan.data?.items === 0;
  return (
    <Dialog.Root open={open} onOpenChange={close}>
      <Dialog.Trigger className={`btn ${main ? "btn-main" : ""}`}>{words}</Dialog.Trigger>
      <Frame title={words}>
        {id === undefined ? (
          <>
            {plan.isPending && (
              <div className="text-second" role="status">
                Looking at what would happen…
              </div>
            )}
            {plan.data && <PlanWords plan={plan.data} what={wish.what} />}
            <Trouble error={plan.error ?? begin.error} />
            <div className="mt-5 flex justify-end gap-2">
              <Dialog.Close className="btn">Leave it</Dialog.Close>
              <button
                className="btn btn-main"
                disabled={!plan.data || refused || begin.isPending}
                onClick={() => {
                  begin.mutate(wish, {
                    onSuccess: (m) => {
                      setId(m.id);
                    },
                  });
                }}
              >
                {wish.what === "confirm" ? "It was done" : "Do it"}
              </button>
            </div>
          </>
        ) : (
          <Progress
            mending={mending.data}
            onClose={() => {
              close(false);
            }}
          />
        )}
      </Frame>
    </Dialog.Root>
  );
}
