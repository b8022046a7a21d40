import { useState } from "react";
import { asFields, type Connection, type Schemas } from "../api/client";
import { useConnections, useTry } from "../api/connections";
import { Trouble } from "../ui/parts";
import { Answered } from "./Answered";
import { KeepPasted } from "./KeepPasted";
import type { Called } from "./PasteCall";
import { SendButtons } from "./SendButtons";
import { ToDecide } from "./ToDecide";

interface Props {
  text: string;
  call: Schemas["Pasted"];
  onConnected?: (c: Connection) => void;
  onTried?: (t: Schemas["Tried"], call: Called) => void;
}

/** A pasted call as it was read: what is to be filled in and was left out, its secret kept, and tried. */
export function Pasted({ text, call: p, onConnected, onTried }: Props) {
  const [kept, setKept] = useState<Schemas["KeptPasted"]>();
  const list = useConnections();
  const connection = list.data?.connections.find((c) => c.name === kept?.connection.name) ?? kept?.connection;
  const settings = asFields(p.settings);
  const call = useTry();
  const method = settings["method"];
  const writes = typeof method === "string" && !["GET", "HEAD", "OPTIONS"].includes(method);
  const signsIn = p.secrets.length > 0;
  const tries = (send: boolean) => {
    const name = signsIn ? connection?.name : undefined;
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
      <Said call={p} />
      {kept ? (
        <div>
          Kept as the action <b>{kept.action}</b>
          {kept.joined ? ", in the connector that was there." : "."} {signsIn ? "The secret is" : "It is"}{" "}
          {kept.made ? "kept" : "already kept"} in the connection <b>{kept.connection.name}</b>:{" "}
          {connection?.words}.
          {connection?.guarded && (
            <div className="mt-2">
              <ToDecide c={connection} />
            </div>
          )}
        </div>
      ) : (
        <KeepPasted
          text={text}
          call={p}
          onKept={(k) => {
            setKept(k);
            onConnected?.(k.connection);
          }}
        />
      )}
      {(!signsIn || connection) && (
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

/** What is to be filled in, what the command reads, and what is left out or goes out otherwise. */
function Said({ call: p }: { call: Schemas["Pasted"] }) {
  return (
    <>
      {p.placeholders.length > 0 && (
        <div className="text-amber">
          To fill in: {p.placeholders.map((x) => `${x.text} in ${x.where}`).join("; ")}
        </div>
      )}
      {p.files.map((f) => (
        <div key={f.field} className="text-second">
          {f.text ? "What the file" : "The file"} {f.name} {f.text ? "holds " : ""}comes from{" "}
          <code className="font-mono text-xs">{f.field}</code>.
        </div>
      ))}
      {p.notes.map((n) => (
        <div key={n} className="text-second">
          {n}
        </div>
      ))}
    </>
  );
}
