import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { Dialog } from "radix-ui";
import { useState } from "react";
import { toast } from "sonner";
import { asFields, type Connector, type Json, type Schemas } from "../api/client";
import { writeJson } from "../api/exact";
import { useConnections } from "../api/connections";
import { useConnectors, useConnectorChanges, useConnectorDocument } from "../api/connectors";
import { ImportOpenAPI } from "../connect/ImportOpenAPI";
import { PasteCall } from "../connect/PasteCall";
import { TryAction } from "../connect/TryAction";
import { Frame } from "../ui/Frame";
import { Badge, Trouble, Waiting } from "../ui/parts";
import { plural } from "../ui/words";

export function Connectors() {
  const list = useConnectors();
  const search: { connector?: string; try?: string } = useSearch({ strict: false });
  const navigate = useNavigate();
  const [find, setFind] = useState("");
  const all = list.data?.connectors ?? [];
  const shown = all.filter((c) =>
    `${c.title} ${c.about} ${c.actions.map((a) => a.title).join(" ")}`
      .toLowerCase()
      .includes(find.toLowerCase()),
  );
  const chosen = all.find((c) => c.name === search.connector) ?? shown[0];
  const choose = (name: string) => {
    void navigate({ to: "/connectors", search: { connector: name } });
  };
  return (
    <div className="mx-auto max-w-[1240px] px-5 py-4">
      <div className="mb-3 flex items-center justify-between">
        <h1>Connectors</h1>
        <div className="flex gap-2">
          <Paste />
          <Import
            onAdded={(c) => {
              setFind("");
              choose(c.name);
            }}
          />
        </div>
      </div>
      <Trouble error={list.error} />
      {list.isPending && <Waiting what="Reading the connectors" />}
      {list.data && (
        <div className="grid gap-4 lg:grid-cols-[300px_1fr]">
          <div className="self-start">
            <input
              className="field mb-2"
              aria-label="Find a connector or an action"
              placeholder="Find by what it does"
              value={find}
              onChange={(e) => {
                setFind(e.target.value);
              }}
            />
            <div className="card overflow-hidden">
              {shown.map((c) => (
                <button
                  key={c.name}
                  className={`block w-full border-b border-rule px-3 py-2 text-left last:border-0 ${c.name === chosen?.name ? "bg-tint" : "hover:bg-tint/60"}`}
                  aria-current={c.name === chosen?.name}
                  onClick={() => {
                    choose(c.name);
                  }}
                >
                  <span className="font-semibold">{c.title}</span>
                  {c.own && (
                    <span className="ml-1.5">
                      <Badge>made here</Badge>
                    </span>
                  )}
                  <span className="float-right text-xs text-second">
                    {plural(c.actions.length, "action")}
                  </span>
                </button>
              ))}
              {shown.length === 0 && (
                <div className="p-3 text-second">
                  Nothing does that yet. Paste a call, or import the application’s OpenAPI document.
                </div>
              )}
            </div>
          </div>
          {chosen && <Detail key={`${chosen.name} ${search.try ?? ""}`} c={chosen} trying={search.try} />}
        </div>
      )}
    </div>
  );
}

function Detail({ c, trying }: { c: Connector; trying: string | undefined }) {
  const full = useConnectorDocument(c.name);
  const connections = useConnections();
  const usable =
    connections.data?.connections.filter((k) => k.connector === c.name && k.state === "ok") ?? [];
  const [tab, setTab] = useState<"read" | "try" | "document">(trying ? "try" : "read");
  const { remove } = useConnectorChanges();
  return (
    <section className="min-w-0" aria-label={c.title}>
      <div className="mb-2 flex items-baseline gap-2.5">
        <h2 className="font-serif text-[18px] font-semibold">{c.title}</h2>
        <span className="text-second">{c.about}</span>
      </div>
      <div className="mb-3 flex flex-wrap items-center gap-x-3 gap-y-1 text-xs text-second">
        <span>
          version {c.version}
          {c.author ? `, by ${c.author}` : ""}
        </span>
        {c.limits && <span>takes {c.limits}</span>}
        {c.docs && (
          <a className="text-leafink underline" href={c.docs} target="_blank" rel="noreferrer noopener">
            its documentation
          </a>
        )}
        {c.own && (
          <button
            className="underline"
            onClick={() => {
              remove.mutate(c.name, { onSuccess: () => toast(`Removed ${c.title}`) });
            }}
          >
            remove
          </button>
        )}
      </div>
      <Trouble error={remove.error} />
      <div className="mb-3 flex gap-1 border-b border-rule" role="tablist">
        {(
          [
            ["read", "What it can do"],
            ["try", "Try one action"],
            ["document", "Its document"],
          ] as const
        ).map(([k, words]) => (
          <button
            key={k}
            role="tab"
            aria-selected={tab === k}
            className={`-mb-px border-b-2 px-3 py-1.5 ${tab === k ? "border-leaf font-semibold" : "border-transparent text-second"}`}
            onClick={() => {
              setTab(k);
            }}
          >
            {words}
          </button>
        ))}
      </div>
      {tab === "read" && (
        <div className="space-y-2">
          <Ways c={c} connected={full.data?.used_by ?? []} />
          {c.actions.map((a) => (
            <Action key={a.name} c={c} a={a} />
          ))}
          {c.triggers.map((t) => (
            <div key={t.name} className="card px-4 py-2.5">
              <span className="font-serif text-[15.5px]">{t.sentence}</span>{" "}
              <Badge>{t.kind === "polling" ? "looks again and again" : "is told"}</Badge>
              {t.instructions && <div className="mt-1 text-second">{t.instructions}</div>}
            </div>
          ))}
        </div>
      )}
      {tab === "try" && <Tries c={c} connections={usable.map((k) => k.name)} first={trying} />}
      {tab === "document" && (
        <pre className="card max-h-[65vh] overflow-auto p-4 font-mono text-xs">{full.data?.document}</pre>
      )}
    </section>
  );
}

function Ways({ c, connected }: { c: Connector; connected: string[] }) {
  return (
    <div className="card p-4">
      <div className="mb-1.5 flex items-center gap-2">
        <h3 className="font-semibold">To connect it</h3>
        <span className="ml-auto text-second">
          {connected.length > 0 ? (
            <>
              connected as{" "}
              {connected.map((n, i) => (
                <span key={n}>
                  {i > 0 && ", "}
                  <Link className="text-leafink underline" to="/connections" search={{ connection: n }}>
                    {n}
                  </Link>
                </span>
              ))}
            </>
          ) : (
            "not connected yet"
          )}
        </span>
      </div>
      {c.sign_in.map((w) => (
        <div key={w.method} className="mb-1">
          <span className="font-medium">{w.title}</span>
          {w.secrets.length > 0 && (
            <span className="text-second"> asks for {w.secrets.map((s) => s.title).join(", ")}</span>
          )}
          . {w.help}
        </div>
      ))}
    </div>
  );
}

const kinds: Record<string, string> = {
  string: "text",
  integer: "a whole number",
  number: "a number",
  boolean: "yes or no",
  object: "an object",
  array: "a list",
  null: "nothing",
};
const typeWords = (t: Json | undefined): string =>
  Array.isArray(t) ? t.map(typeWords).join(" or ") : (kinds[String(t ?? "")] ?? "");

const repeats: Record<string, string> = {
  safe: "may be repeated",
  keyed: "a repeat is known by its key",
  unsafe: "would happen twice if repeated",
};

/** An action, readable before it is used. */
function Action({ c, a }: { c: Connector; a: Schemas["Action"] }) {
  const [open, setOpen] = useState(false);
  const navigate = useNavigate();
  return (
    <div className="card">
      <button
        className="flex w-full items-baseline gap-2.5 px-4 py-2.5 text-left"
        aria-expanded={open}
        onClick={() => {
          setOpen(!open);
        }}
      >
        <span className="font-serif text-[15.5px]">
          {a.sentence.replace(
            /\{([a-z0-9_]+)\}/g,
            (_, n: string) =>
              `‹${String(asFields(a.fields.find((f) => f.name === n)?.schema)["title"] ?? n)}›`,
          )}
        </span>
        <span className="ml-auto flex shrink-0 gap-1.5">
          <Badge tone={a.effect === "write" ? "amber" : "plain"}>
            {a.effect === "write" ? "writes" : "reads"}
          </Badge>
          {a.list && <Badge>a list</Badge>}
          {a.takes_a_while && <Badge>takes a while</Badge>}
        </span>
      </button>
      {open && (
        <div className="border-t border-rule px-4 py-3">
          {a.help && <p className="mb-2">{a.help}</p>}
          <p className="mb-3 text-second">
            {[
              a.method && a.path ? `${a.method} ${a.path}` : "",
              a.units ? `billed ${a.units}` : "",
              a.effect === "write" ? repeats[a.repeat] : "",
              a.proof ? `proof: ${a.proof.join(", ")}` : "",
              a.scopes ? `needs ${a.scopes.join(", ")}` : "",
            ]
              .filter(Boolean)
              .join(" · ")}
          </p>
          <table className="mb-3 w-full">
            <tbody>
              {a.fields.map((f) => {
                const s = asFields(f.schema);
                return (
                  <tr key={f.name} className="border-t border-rule align-top">
                    <td className="w-36 py-1 font-mono text-xs">{f.name}</td>
                    <td className="py-1 pr-2">
                      {String(s["title"] ?? "")}
                      {f.required ? "" : <span className="text-third"> if wished</span>}
                      {s["description"] ? (
                        <span className="text-second">. {String(s["description"])}</span>
                      ) : null}
                    </td>
                    <td className="w-40 py-1 text-second">
                      {[
                        s["choices"] ? "picked by name" : typeWords(s["type"]),
                        s["maxLength"] ? `up to ${Number(s["maxLength"]).toLocaleString("en")}` : "",
                      ]
                        .filter(Boolean)
                        .join(", ")}
                    </td>
                  </tr>
                );
              })}
            </tbody>
          </table>
          {a.sample !== undefined && (
            <details className="mb-2">
              <summary className="cursor-pointer text-second">What comes back, for example</summary>
              <pre className="mt-1 max-h-52 overflow-auto rounded-lg border border-rule p-2.5 font-mono text-xs">
                {writeJson(a.sample, 2)}
              </pre>
            </details>
          )}
          <button
            className="btn"
            onClick={() => {
              void navigate({ to: "/connectors", search: { connector: c.name, try: a.name } });
            }}
          >
            Try it
          </button>
        </div>
      )}
    </div>
  );
}

/** One action, or two side by side with their answers. */
function Tries({
  c,
  connections,
  first,
}: {
  c: Connector;
  connections: string[];
  first: string | undefined;
}) {
  const [connection, setConnection] = useState(connections[0] ?? "");
  const [two, setTwo] = useState(false);
  const used = connection || connections[0];
  if (!used)
    return (
      <div className="card p-6 text-second">
        Connect {c.title} first; then an action can be tried with a real account.{" "}
        <Link className="text-leafink underline" to="/connections">
          Connections
        </Link>
      </div>
    );
  return (
    <div>
      <div className="mb-3 flex items-center gap-3">
        {connections.length > 1 ? (
          <select
            aria-label="Connection"
            className="field w-52"
            value={used}
            onChange={(e) => {
              setConnection(e.target.value);
            }}
          >
            {connections.map((n) => (
              <option key={n}>{n}</option>
            ))}
          </select>
        ) : (
          <span className="text-second">
            With the connection <b className="text-ink">{used}</b>
          </span>
        )}
        <button
          className="btn ml-auto"
          aria-pressed={two}
          onClick={() => {
            setTwo(!two);
          }}
        >
          {two ? "One action" : "Compare two"}
        </button>
      </div>
      <div className={`grid gap-4 ${two ? "xl:grid-cols-2" : ""}`}>
        <div className="card p-4">
          <TryAction connector={c} connection={used} {...(first ? { first } : {})} />
        </div>
        {two && (
          <div className="card p-4">
            <TryAction
              connector={c}
              connection={used}
              first={c.actions[1]?.name ?? c.actions[0]?.name ?? ""}
            />
          </div>
        )}
      </div>
    </div>
  );
}

function Paste() {
  return (
    <Dialog.Root>
      <Dialog.Trigger className="btn">Paste a call</Dialog.Trigger>
      <Frame title="Paste a call" wide>
        <PasteCall />
      </Frame>
    </Dialog.Root>
  );
}

function Import({ onAdded }: { onAdded: (c: Connector) => void }) {
  const [open, setOpen] = useState(false);
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger className="btn">Import OpenAPI</Dialog.Trigger>
      <Frame title="Import an OpenAPI document" wide>
        <ImportOpenAPI
          onAdded={(c) => {
            toast(`Added ${c.title}`);
            setOpen(false);
            onAdded(c);
          }}
        />
      </Frame>
    </Dialog.Root>
  );
}
