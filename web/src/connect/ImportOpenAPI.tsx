import { useState } from "react";
import { type Connector } from "../api/client";
import { Trouble } from "../ui/parts";
import { plural } from "../ui/words";
import { useConnectorChanges, useReadOpenAPI } from "../api/connectors";

/** Makes a connector of an OpenAPI document, which a person looks at first. */
export function ImportOpenAPI({ onAdded }: { onAdded: (c: Connector) => void }) {
  const [text, setText] = useState("");
  const [address, setAddress] = useState("");
  const [sure, setSure] = useState(false);
  const read = useReadOpenAPI();
  const k = read.data;
  const { add } = useConnectorChanges();
  const load = async (f: File) => {
    setText(await f.text());
  };
  const places = [...(k?.servers ?? []), ...(k?.token_servers ?? [])];
  return (
    <div>
      <div className="mb-3">
        <label className="label" htmlFor="openapi-file">
          An OpenAPI 3 document
        </label>
        <input
          id="openapi-file"
          type="file"
          accept=".json,.yaml,.yml"
          className="mb-2 block text-second"
          onChange={(e) => {
            const f = e.target.files?.[0];
            if (f) void load(f);
          }}
        />
        <textarea
          aria-label="or its text"
          className="field h-28 py-2 font-mono text-xs"
          spellCheck={false}
          placeholder="or paste its text: JSON or YAML"
          value={text.slice(0, 200_000)}
          onChange={(e) => {
            setText(e.target.value);
          }}
        />
      </div>
      <div className="mb-3">
        <label className="label" htmlFor="openapi-address">
          Where it was found <span className="font-normal text-third">if its servers are only paths</span>
        </label>
        <input
          id="openapi-address"
          className="field"
          placeholder="https://api.example/openapi.json"
          value={address}
          onChange={(e) => {
            setAddress(e.target.value);
          }}
        />
      </div>
      <button
        className="btn btn-main mb-3"
        disabled={!text.trim() || read.isPending}
        onClick={() => {
          read.mutate(
            { document: text, address },
            {
              onSuccess: () => {
                setSure(false);
              },
            },
          );
        }}
      >
        {read.isPending ? "Reading…" : "Read it"}
      </button>
      <Trouble error={read.error} />
      {k && (
        <div className="space-y-3">
          <div>
            <span className="font-serif text-[15.5px] font-semibold">{k.title}</span>:{" "}
            {plural(k.reads ?? 0, "action")} that read and {plural(k.writes ?? 0, "action")} that write; signs
            in by {k.sign_in.join(", ")}.
          </div>
          {places.length > 0 && (
            <label className="flex gap-2 rounded-lg border border-amber p-3">
              <input
                type="checkbox"
                className="mt-0.5 accent-leaf"
                checked={sure}
                onChange={(e) => {
                  setSure(e.target.checked);
                }}
              />
              <span>
                Calls, and with them the secret, will go to{" "}
                <b className="font-mono text-xs break-all">{places.join(", ")}</b>. That is where they belong.
              </span>
            </label>
          )}
          {k.left_out.length > 0 && (
            <details>
              <summary className="cursor-pointer text-second">
                {plural(k.left_out.length, "thing")} could not be taken
              </summary>
              <ul className="mt-1.5 max-h-52 space-y-1 overflow-auto">
                {k.left_out.map((l, i) => (
                  <li key={i}>
                    <b>{l.what}</b>: {l.why}
                  </li>
                ))}
              </ul>
            </details>
          )}
          <details>
            <summary className="cursor-pointer text-second">The connector document</summary>
            <pre className="mt-1.5 max-h-72 overflow-auto rounded-lg border border-rule p-2.5 font-mono text-xs">
              {k.document.slice(0, 60_000)}
            </pre>
          </details>
          <Trouble error={add.error} />
          <button
            className="btn btn-main"
            disabled={add.isPending || (places.length > 0 && !sure)}
            onClick={() => {
              add.mutate(k.document, { onSuccess: onAdded });
            }}
          >
            Add the connector
          </button>
        </div>
      )}
    </div>
  );
}
