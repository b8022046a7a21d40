import { Dialog } from "radix-ui";
import { useState } from "react";
import type { Connection, Connector } from "../api/client";
import { Frame } from "../ui/Frame";
import { Account } from "./Account";

/** Adds an account of an application without leaving the page. */
export function AddAccount({
  connector,
  main,
  onReady,
}: {
  connector: Connector;
  main: boolean; // there is none yet
  onReady: (c: Connection) => void;
}) {
  const [open, setOpen] = useState(false);
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger className={main ? "btn" : "text-xs text-third hover:text-ink hover:underline"}>
        {main ? `Connect ${connector.title}` : "another account"}
      </Dialog.Trigger>
      <Frame title={`Connect ${connector.title}`}>
        <Account
          connector={connector}
          onReady={(c) => {
            setOpen(false);
            onReady(c);
          }}
        />
      </Frame>
    </Dialog.Root>
  );
}
