import { Dialog } from "radix-ui";
import { useState } from "react";
import { toast } from "sonner";
import type { Connection, Connector } from "../api/client";
import { ChooseConnector } from "../connect/ChooseConnector";
import { PasteCall } from "../connect/PasteCall";
import { SignInForm } from "../connect/SignInForm";
import { Frame } from "../ui/Frame";

/** Adds an account: which application, then its sign-in; or by a pasted call. */
export function AddConnection({ onAdded }: { onAdded: (c: Connection) => void }) {
  const [open, setOpen] = useState(false);
  const [chosen, setChosen] = useState<Connector>();
  const [pasting, setPasting] = useState(false);
  const close = (on: boolean) => {
    setOpen(on);
    if (!on) {
      setChosen(undefined);
      setPasting(false);
    }
  };
  return (
    <Dialog.Root open={open} onOpenChange={close}>
      <Dialog.Trigger className="btn btn-main">Add a connection</Dialog.Trigger>
      <Frame
        title={pasting ? "Paste a call" : chosen ? `Connect ${chosen.title}` : "Which application?"}
        wide={!chosen}
      >
        {pasting && (
          <PasteCall
            onConnected={(c) => {
              onAdded(c);
            }}
          />
        )}
        {!pasting && !chosen && (
          <ChooseConnector
            onChoose={setChosen}
            onPaste={() => {
              setPasting(true);
            }}
          />
        )}
        {chosen && (
          <SignInForm
            connector={chosen}
            onDone={(c) => {
              toast(c.state === "consent" ? `${c.name} is stored; now sign in` : c.words);
              close(false);
              onAdded(c);
            }}
          />
        )}
        {(chosen ?? pasting) && (
          <button
            type="button"
            className="btn btn-plain mt-2 px-0"
            onClick={() => {
              setChosen(undefined);
              setPasting(false);
            }}
          >
            Another application
          </button>
        )}
      </Frame>
    </Dialog.Root>
  );
}
