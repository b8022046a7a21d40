import { useState } from "react";
import { asFields, type Connection, type Fields, type Schemas } from "../api/client";
import { useConnections, useTry } from "../api/connections";
import { useConnectPasted } from "../api/connectors";
import { writeJson } from "../api/exact";
import { Badge, Trouble } from "../ui/parts";
import { Answered } from "./Answered";
import type { Called } from "./PasteCall";
import { SendButtons } from "./SendButtons";
import { ToDecide } from "./ToDecide";

type Call = Schemas["Pasted"];

interface Props {
  call: Call;
  onConnected?: (c: Connection) => void;
  onTried?: (t: Schemas["Tried"], call: Called) => void;
}

/** A pasted call as it was read: what it does, its secret kept, and tried. */
export function Pasted({ call: p, onConnected, onTried }: Props) {
  const [kept, setKept] = useState<Connection>();
  const list = useConnections();
  const connection = list.data?.connections.find((c) => c.name === kept?.name) ?? kept;
  const settings = asFields(p.settings);
  const call = useTry();
  const method = settings["method"];
  const writes = typeof method === "string" && !["GET", "HEAD", "OPTIONS"].includes(method);
  const tries = (send: boolean) => {
    const name = connection?.name;
    call.mutate(
      { action: "http", input: settings, send, ...(name ? { connection: name } : {}) },
      {
        onSuccess: (t) => {
          if (!t.sent.prepared) onTried?.(t, { settings, connection: name });
        },
      },
    );
  };
  return (
    <div className="space-y-3">
      <div className="font-serif text-[15.5px]">{p.sentence}</div>
      <Settings settings={settings} />
      {p.placeholders.length > 0 && (
        <div className="text-amber">
          To fill in: {p.placeholders.map((x) => `${x.text} in ${x.where}`).join("; ")}
        </div>
      )}
      {p.notes.map((n) => (
        <div key={n} className="text-second">
          {n}
        </div>
      ))}
      {p.connector && !connection && (
        <Keep
          call={p}
          onKept={(c) => {
            setKept(c);
            onConnected?.(c);
          }}
        />
      )}
      {connection && (
        <div>
          Kept in the connection <b>{connection.name}</b>: {connection.words}.
          {connection.guarded && (
            <div className="mt-2">
              <ToDecide c={connection} />
            </div>
          )}
        </div>
      )}
      {(!p.connector || connection) && (
        <div className="flex gap-2">
          <SendButtons writes={writes} busy={call.isPending} onSend={tries} />
        </div>
      )}
      <Trouble error={call.error} />
      {call.data && (
        <Answered
          t={call.data}
          again={() => {
            tries(true);
          }}
        />
      )}
    </div>
  );
}

/** Keeps the secret of the call in a connection, for its address only. */
function Keep({ call: p, onKept }: { call: Call; onKept: (c: Connection) => void }) {
  const [values, setValues] = useState<Record<string, string>>(p.values ?? {});
  const connect = useConnectPasted();
  return (
    <div className="rounded-lg border border-rule p-3">
      <div className="mb-2">
        {p.secrets.length > 0 ? (
          <>
            Found and taken out:{" "}
            {p.secrets.map((s) => (
              <Badge key={s.where} tone="leaf">
                {s.where} {s.hint}
              </Badge>
            ))}
          </>
        ) : (
          "A secret is asked for."
        )}{" "}
        It may be used with <span className="font-mono text-xs">{p.origin}</span> only.
      </div>
      {p.secrets.length === 0 && (
        <input
          aria-label="The secret"
          type="password"
          autoComplete="off"
          className="field mb-2 font-mono"
          value={values["secret"] ?? ""}
          onChange={(e) => {
            setValues({ ...values, secret: e.target.value });
          }}
        />
      )}
      <Trouble error={connect.error} />
      <button
        className="btn btn-main"
        disabled={connect.isPending}
        onClick={() => {
          connect.mutate({ document: p.connector ?? "", values }, { onSuccess: onKept });
        }}
      >
        Keep it in a new connection
      </button>
    </div>
  );
}

function Settings({ settings }: { settings: Fields }) {
  return (
    <pre className="max-h-52 overflow-auto rounded-lg border border-rule p-2.5 font-mono text-xs">
      {writeJson(settings, 2)}
    </pre>
  );
}
