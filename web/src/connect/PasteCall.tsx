import { useState } from "react";
import { asFields, type Connection, type Fields, type Schemas } from "../api/client";
import { writeJson } from "../api/exact";
import { Badge, Trouble } from "../ui/parts";
import { Answered } from "./TryAction";
import { useTry } from "../api/connections";
import { useConnectPasted, useReadPasted } from "../api/connectors";

type Tried = Schemas["Tried"];

/** Makes a step of a pasted call; what is secret in it becomes a connection. */
export function PasteCall({
  onConnected,
  onTried,
}: {
  onConnected?: (c: Connection) => void;
  onTried?: (t: Tried) => void;
}) {
  const [text, setText] = useState("");
  const [connection, setConnection] = useState<Connection>();
  const [values, setValues] = useState<Record<string, string>>({});
  const read = useReadPasted();
  const p = read.data;
  const connect = useConnectPasted();
  const settings = asFields(p?.settings);
  const call = useTry();
  const tries = (send: boolean) => {
    call.mutate(
      { action: "http", input: settings, send, ...(connection ? { connection: connection.name } : {}) },
      {
        onSuccess: (t) => {
          if (!t.sent.prepared) onTried?.(t);
        },
      },
    );
  };
  const writes = !["GET", "HEAD", "OPTIONS", undefined].includes(settings["method"] as string | undefined);
  return (
    <div>
      <label className="label" htmlFor="pasted">
        A curl command, or a raw HTTP request
      </label>
      <textarea
        id="pasted"
        className="field h-32 py-2 font-mono text-xs"
        spellCheck={false}
        placeholder={"curl https://api.example/v1/orders \\\n  -H 'Authorization: Bearer …'"}
        value={text}
        onChange={(e) => {
          setText(e.target.value);
        }}
      />
      <div className="mt-2 mb-3 flex items-center gap-3">
        <button
          className="btn btn-main"
          disabled={!text.trim() || read.isPending}
          onClick={() => {
            read.mutate(text, {
              onSuccess: (got) => {
                setConnection(undefined);
                setValues(got.values ?? {});
              },
            });
          }}
        >
          Read it
        </button>
        <span className="hint">Secrets in it are taken out and kept in a connection only.</span>
      </div>
      <Trouble error={read.error} />
      {p && (
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
                  connect.mutate(
                    { document: p.connector ?? "", values },
                    {
                      onSuccess: (c) => {
                        setConnection(c);
                        setValues({});
                        onConnected?.(c);
                      },
                    },
                  );
                }}
              >
                Keep it in a new connection
              </button>
            </div>
          )}
          {connection && (
            <div>
              Kept in the connection <b>{connection.name}</b>: {connection.words}.
            </div>
          )}
          {(!p.connector || connection) && (
            <div className="flex gap-2">
              <button
                className="btn"
                disabled={call.isPending}
                onClick={() => {
                  tries(false);
                }}
              >
                Show the request
              </button>
              <button
                className={`btn ${writes ? "border-amber text-amber" : "btn-main"}`}
                disabled={call.isPending}
                onClick={() => {
                  tries(true);
                }}
              >
                {writes ? "Send one for real" : "Try it"}
              </button>
            </div>
          )}
          <Trouble error={call.error} />
          {call.data && <Answered t={call.data} />}
        </div>
      )}
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
