import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { useState } from "react";
import type { Connection, Connector, Fields, Schemas } from "../api/client";
import { useConnections } from "../api/connections";
import { useConnectors } from "../api/connectors";
import { Account } from "../connect/Account";
import { ChooseConnector } from "../connect/ChooseConnector";
import { FirstRead } from "../connect/FirstRead";
import { PasteCall, type Called } from "../connect/PasteCall";
import { Stages } from "../ui/Stages";
import { Waiting } from "../ui/parts";
import { MakeOfRead } from "../workflows/MakeOfRead";

/** What was read for real: the action and what it was asked with. */
export interface Read {
  action: string;
  input: Fields;
}

/** The door "I have a key": find the application, store the key, see real rows, go on with them. */
export function Start() {
  const search: { connector?: string; connection?: string } = useSearch({ strict: false });
  const navigate = useNavigate();
  const [pasting, setPasting] = useState(false);
  const [pasted, setPasted] = useState<Called>();
  const [read, setRead] = useState<Read>();
  const connections = useConnections().data?.connections;
  const connector = useConnectors().data?.connectors.find((c) => c.name === search.connector);
  const connection = connections?.find((c) => c.name === search.connection);
  const works = connection?.state === "ok";
  const go = (to: { connector?: string; connection?: string }) => {
    setRead(undefined);
    void navigate({ to: "/start", search: to, replace: true });
  };
  return (
    <div className="mx-auto max-w-[820px] px-5 py-5">
      <h1 className="mb-2">I have a key</h1>
      <Stages
        list={[
          { words: "Find the application", done: connector !== undefined || pasting },
          { words: "Enter the key", done: works || pasted !== undefined },
          { words: "See real rows", done: read !== undefined || pasted !== undefined },
        ]}
      />
      {pasting && (
        <div className="card p-5">
          <PasteCall
            onTried={(t, call) => {
              setPasted(t.why ? undefined : call);
            }}
          />
        </div>
      )}
      {!pasting && search.connector === undefined && (
        <div className="card p-5">
          <ChooseConnector
            onChoose={(c) => {
              go({ connector: c.name });
            }}
            onPaste={() => {
              setPasting(true);
            }}
          />
        </div>
      )}
      {!pasting && search.connector !== undefined && (!connector || !connections) && (
        <Waiting what="Reading the accounts" />
      )}
      {!pasting && connector && connections && (
        <div className="space-y-4">
          <Entered
            connector={connector}
            there={connections.filter((c) => c.connector === connector.name)}
            connection={connection}
            onChoose={go}
          />
          {works && <FirstRead connector={connector} connection={connection.name} onRead={setRead} />}
        </div>
      )}
      {read && connector && connection && (
        <MakeOfRead
          connector={connector}
          title={`${connector.actions.find((a) => a.name === read.action)?.title ?? "Read"}, ${connector.title}`}
          step={{
            name: read.action,
            type: `${connector.name}.${read.action}`,
            connection: connection.name,
            input: read.input,
          }}
        />
      )}
      {pasted && (
        <MakeOfRead
          title={`Call ${hostOf(pasted.settings)}`}
          step={{
            name: "called",
            type: "http",
            ...(pasted.connection ? { connection: pasted.connection } : {}),
            settings: pasted.settings,
          }}
        />
      )}
    </div>
  );
}

const hostOf = (settings: Fields) => {
  const url = settings["url"];
  try {
    return new URL(typeof url === "string" ? url : "").host;
  } catch {
    return "an address";
  }
};

/** The account: one that is there already, or a new one. */
function Entered({
  connector,
  there,
  connection,
  onChoose,
}: {
  connector: Connector;
  there: Connection[];
  connection: Connection | undefined;
  onChoose: (to: Pick<Schemas["Connection"], "connector"> & { connection?: string }) => void;
}) {
  const use = (c: Connection) => {
    onChoose({ connector: connector.name, connection: c.name });
  };
  return (
    <div className="card p-5">
      <h2 className="mb-3 font-serif text-[16px] font-semibold">Connect {connector.title}</h2>
      {!connection && there.length > 0 && (
        <div className="mb-4">
          <div className="mb-1.5 text-second">It is connected already:</div>
          <div className="flex flex-wrap gap-2">
            {there.map((c) => (
              <button
                key={c.name}
                className="btn"
                onClick={() => {
                  use(c);
                }}
              >
                Use {c.name}
              </button>
            ))}
          </div>
          <div className="mt-3 text-second">Or enter another account:</div>
        </div>
      )}
      <Account
        key={connection?.name ?? ""}
        connector={connector}
        {...(connection ? { known: connection } : {})}
        onStored={use}
        onReady={use}
      />
      {connection?.state !== "ok" && (
        <Link to="/start" className="text-second hover:underline">
          Another application
        </Link>
      )}
    </div>
  );
}
