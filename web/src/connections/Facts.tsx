import { asFields, type Connection, type Connector } from "../api/client";
import { plural, when } from "../ui/words";

/** What is known of a connection. */
export function Facts({
  c,
  connector,
  way,
}: {
  c: Connection;
  connector: Connector | undefined;
  way: Connector["sign_in"][number] | undefined;
}) {
  const account = asFields(c.account);
  return (
    <dl className="mb-4 grid grid-cols-[130px_1fr] gap-y-1.5">
      {Object.entries(account).map(([k, v]) => (
        <Fact
          key={k}
          name={String(asFields(connector?.account.find((p) => p.name === k)?.schema)["title"] ?? k)}
        >
          <span className="break-all">{String(v)}</span>
        </Fact>
      ))}
      <Fact name="Signs in by">{way?.title ?? c.method}</Fact>
      <Fact name="May be used with">
        <span className="font-mono text-xs break-all">{c.pin}</span>
      </Fact>
      {c.method !== "none" && <Fact name="Secret">{c.hint ? `ends in ${c.hint}` : "kept, never shown"}</Fact>}
      {c.scopes && <Fact name="Granted">{c.scopes.join(", ") || "nothing"}</Fact>}
      {c.token_expires && <Fact name="Token">good until {when(c.token_expires)}, renewed before</Fact>}
      {c.left && <Fact name="Plan">{c.left}</Fact>}
      <Fact name="Used by">{c.used_by.length > 0 ? c.used_by.join(", ") : "nothing yet"}</Fact>
      <Fact name="Limit">{limit(c, connector)}</Fact>
      <Fact name="Builders">
        {c.everyone
          ? "every builder may use it"
          : [
              "administrators",
              ...c.grants.map((g) => `${g.name ?? g.email}${g.actions ? ` (${g.actions.join(", ")})` : ""}`),
            ].join(", ")}
      </Fact>
      <Fact name="Last checked">
        {c.checked
          ? `${when(c.checked)}${c.took_ms !== undefined ? `, in ${String(Math.max(1, c.took_ms))} ms` : ""}`
          : "never"}
      </Fact>
    </dl>
  );
}

function Fact({ name, children }: { name: string; children: React.ReactNode }) {
  return (
    <>
      <dt className="text-second">{name}</dt>
      <dd className="min-w-0">{children}</dd>
    </>
  );
}

function limit(c: Connection, connector: Connector | undefined): string {
  const l = c.limits;
  if (!l) return connector?.limits ? `${connector.limits}, as the connector says` : "none known";
  return [
    l.calls ? `${plural(l.calls, "call")} in ${String(l.seconds ?? 1)} s` : "",
    l.parallel ? `${String(l.parallel)} at once` : "",
  ]
    .filter(Boolean)
    .join(", ");
}
