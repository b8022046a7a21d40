import { useState } from "react";
import type { Connector, Schemas } from "../api/client";
import { useConnectorChanges } from "../api/connectors";
import { Trouble } from "../ui/parts";
import { plural } from "../ui/words";

const does = (n: number, verb: string) =>
  n === 1 ? `1 action that ${verb}s` : `${String(n)} actions that ${verb}`;

/** What was read of an OpenAPI document, to be looked at and added. */
export function Imported({
  read: k,
  onAdded,
}: {
  read: Schemas["Imported"];
  onAdded: (c: Connector) => void;
}) {
  const [sure, setSure] = useState(false);
  const { add } = useConnectorChanges();
  const places = [...(k.servers ?? []), ...(k.token_servers ?? [])];
  return (
    <div className="space-y-3">
      <div>
        <span className="font-serif text-[15.5px] font-semibold">{k.title}</span>:{" "}
        {does(k.reads ?? 0, "read")} and {does(k.writes ?? 0, "write")}; signs in by {k.sign_in.join(", ")}.
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
      {k.replaces !== undefined && <Changes version={k.replaces} list={k.changes ?? []} />}
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
        {k.replaces === undefined ? "Add the connector" : `Add it as version ${String(k.replaces + 1)}`}
      </button>
    </div>
  );
}

/** What it does otherwise than the version that is there, and whom that concerns. */
function Changes({ version, list }: { version: number; list: Schemas["ConnectorChange"][] }) {
  return (
    <section className="rounded-lg border border-rule p-3">
      <h3 className="label">Version {version} is there already</h3>
      {list.length === 0 && <div>It does the same.</div>}
      <ul className="max-h-52 space-y-1 overflow-auto">
        {list.map((c, i) => (
          <li key={i} className={c.breaks && c.workflows.length > 0 ? "text-amber" : ""}>
            {c.action && !c.says.includes(c.action) && <b>{c.action}: </b>}
            {c.says}
            {c.workflows.length > 0 && ` Used by ${c.workflows.join(", ")}.`}
          </li>
        ))}
      </ul>
      <div className="hint mt-1.5">
        What is live keeps the version that it was made with, until it goes live anew.
      </div>
    </section>
  );
}
