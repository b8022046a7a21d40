import { useEffect, useRef, useState } from "react";
import type { Connection, Connector } from "../api/client";
import { useConnections } from "../api/connections";
import { SignInForm } from "./SignInForm";
import { ToDecide } from "./ToDecide";

interface Props {
  connector: Connector;
  known?: Connection; // it was entered before
  onStored?: (c: Connection) => void;
  onReady: (c: Connection) => void; // it works
}

/** Enters an account and stays until it works: the sign-in, what its check said, the consent, and what is to be mended. */
export function Account({ connector, known, onStored, onReady }: Props) {
  const [made, setMade] = useState<Connection | undefined>(known);
  const list = useConnections();
  const now = list.data?.connections.find((c) => c.name === made?.name) ?? made;
  const state = now?.state;
  const told = useRef<string>(undefined);
  useEffect(() => {
    if (now && state === "ok" && told.current !== now.name) {
      told.current = now.name;
      onReady(now);
    }
    // It is told once that a connection works.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [now?.name, state]);
  const done = (c: Connection) => {
    setMade(c);
    onStored?.(c);
  };
  if (!now) return <SignInForm connector={connector} onDone={done} />;
  const wrong = state === "broken" || state === "unchecked";
  return (
    <>
      <div className="mb-1 font-serif text-[16px] font-semibold">{now.name}</div>
      <div className={wrong ? "text-rust" : ""}>{now.words}.</div>
      {(state === "consent" || state === "confirm" || now.guarded) && (
        <div className="mt-3">
          <ToDecide c={now} />
        </div>
      )}
      {wrong && (
        <div className="mt-4">
          <SignInForm key={now.name} connector={connector} known={now} onDone={done} />
        </div>
      )}
    </>
  );
}
