import { Dialog } from "radix-ui";
import { useState } from "react";
import { toast } from "sonner";
import type { Connection, Connector } from "../api/client";
import { SignInForm } from "../connect/SignInForm";
import { Frame } from "../ui/Frame";

/** Enters an account anew. */
export function Mend({ c, connector }: { c: Connection; connector: Connector }) {
  const [open, setOpen] = useState(false);
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger className={`btn ${c.state === "broken" ? "btn-main" : ""}`}>
        {c.state === "broken" ? "Mend" : "Enter it anew"}
      </Dialog.Trigger>
      <Frame title={`${c.name}, ${c.connector_title}`}>
        <p className="mb-3 text-second">
          A new address needs the secret again: it never goes where it was not entered for.
        </p>
        <SignInForm
          connector={connector}
          known={c}
          onDone={(k) => {
            toast(k.words);
            setOpen(k.state === "broken");
          }}
        />
      </Frame>
    </Dialog.Root>
  );
}
