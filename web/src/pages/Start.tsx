import { Link } from "@tanstack/react-router";
import { useState } from "react";
import type { Connection, Connector } from "../api/client";
import { useConnections } from "../api/connections";
import { useConnectors } from "../api/connectors";
import { PasteCall } from "../connect/PasteCall";
import { ConsentButton, SignInForm } from "../connect/SignInForm";
import { TryAction } from "../connect/TryAction";
import { ChooseConnector } from "./Connections";

/** The door "I have a key": find the application, store the key, see real rows. */
export function Start() {
  const [chosen, setChosen] = useState<Connector>();
  const [pasting, setPasting] = useState(false);
  const [made, setMade] = useState<Connection>();
  const [rows, setRows] = useState(false);
  const connections = useConnections();
  const connectors = useConnectors();
  const connection = connections.data?.connections.find((c) => c.name === made?.name) ?? made;
  const connector = connectors.data?.connectors.find((c) => c.name === connection?.connector) ?? chosen;
  const works = connection?.state === "ok";
  const reading =
    connector?.actions.find((a) => a.effect === "read" && a.list) ??
    connector?.actions.find((a) => a.effect === "read");
  const steps = [
    ["Find the application", chosen !== undefined || pasting || made !== undefined],
    ["Enter the key", works],
    ["See real rows", rows],
  ] as const;
  return (
    <div className="mx-auto max-w-[820px] px-5 py-5">
      <h1 className="mb-2">I have a key</h1>
      <ol className="mb-5 flex flex-wrap gap-x-6 gap-y-1">
        {steps.map(([words, done], i) => (
          <li key={words} className={done ? "text-leafink" : "text-second"}>
            <span aria-hidden>{done ? "●" : "○"}</span> {i + 1}. {words}
            {done && <span className="sr-only"> done</span>}
          </li>
        ))}
      </ol>
      {!chosen && !pasting && (
        <div className="card p-5">
          <ChooseConnector
            onChoose={setChosen}
            onPaste={() => {
              setPasting(true);
            }}
          />
        </div>
      )}
      {pasting && (
        <div className="card p-5">
          <PasteCall
            onConnected={setMade}
            onTried={() => {
              setRows(true);
            }}
          />
        </div>
      )}
      {chosen && !made && (
        <div className="card p-5">
          <h2 className="mb-3 font-serif text-[16px] font-semibold">Connect {chosen.title}</h2>
          <SignInForm connector={chosen} onDone={setMade} />
          <button
            className="btn btn-plain px-0"
            onClick={() => {
              setChosen(undefined);
            }}
          >
            Another application
          </button>
        </div>
      )}
      {!pasting && connection && connector && (
        <div className="space-y-4">
          <div className="card p-5">
            <div className="mb-1 font-serif text-[16px] font-semibold">{connection.name}</div>
            <div
              className={connection.state === "broken" || connection.state === "unchecked" ? "text-rust" : ""}
            >
              {connection.words}.
            </div>
            {connection.state === "consent" && (
              <div className="mt-3">
                <ConsentButton connection={connection.name} />
              </div>
            )}
            {(connection.state === "broken" || connection.state === "unchecked") && (
              <div className="mt-4">
                <SignInForm connector={connector} known={connection} onDone={setMade} />
              </div>
            )}
          </div>
          {works && (
            <div className="card p-5">
              <h2 className="mb-3 font-serif text-[16px] font-semibold">Make one real read</h2>
              <TryAction
                connector={connector}
                connection={connection.name}
                {...(reading ? { first: reading.name } : {})}
                onTried={(t) => {
                  setRows(!t.why);
                }}
              />
            </div>
          )}
        </div>
      )}
      {rows && (
        <p className="mt-4">
          That is real data. Go on with{" "}
          <Link to="/workflows" className="text-leafink underline">
            a workflow
          </Link>{" "}
          that uses it, or look at{" "}
          <Link
            to="/connectors"
            search={connector ? { connector: connector.name } : {}}
            className="text-leafink underline"
          >
            everything it can do
          </Link>
          .
        </p>
      )}
    </div>
  );
}
