import { useNavigate, useSearch } from "@tanstack/react-router";
import { Dialog } from "radix-ui";
import { useState } from "react";
import { toast } from "sonner";
import { asFields, type Connection, type Connector, type Schemas } from "../api/client";
import { useConnections, useCalls, useConnectionChanges } from "../api/connections";
import { useConnectors } from "../api/connectors";
import { PasteCall } from "../connect/PasteCall";
import { ConsentButton, SignInForm } from "../connect/SignInForm";
import { Frame } from "../ui/Frame";
import { Badge, Nothing, Trouble, Waiting } from "../ui/parts";
import { plural, when } from "../ui/words";
import { useFirstFocus } from "../ui/useFirstFocus";

export function Connections() {
  const list = useConnections();
  const search: { connection?: string; trouble?: string } = useSearch({ strict: false });
  const navigate = useNavigate();
  const all = list.data?.connections ?? [];
  const chosen =
    all.find((c) => c.name === search.connection) ??
    all.find((c) => c.state === "broken" || c.state === "confirm") ??
    all[0];
  const choose = (name: string) => {
    void navigate({ to: "/connections", search: { connection: name } });
  };
  return (
    <div className="mx-auto max-w-[1240px] px-5 py-4">
      <div className="mb-3 flex items-center justify-between">
        <h1>Connections</h1>
        <AddConnection
          onAdded={(c) => {
            choose(c.name);
          }}
        />
      </div>
      <Trouble error={list.error} />
      {search.trouble && <Trouble error={new Error(search.trouble)} />}
      {list.isPending && <Waiting what="Reading the connections" />}
      {list.data && all.length === 0 && (
        <Nothing>
          No account is connected yet. Have an application’s key at hand and add it here; it is checked at
          once.
        </Nothing>
      )}
      {chosen && (
        <div className="grid gap-4 lg:grid-cols-[minmax(380px,5fr)_7fr]">
          <div className="card self-start overflow-hidden">
            <table className="w-full" aria-label="Connections">
              <tbody>
                {all.map((c) => (
                  <tr
                    key={c.name}
                    className={`cursor-pointer border-b border-rule last:border-0 ${c.name === chosen.name ? "bg-tint" : "hover:bg-tint/60"}`}
                    onClick={() => {
                      choose(c.name);
                    }}
                  >
                    <td className="py-2 pr-2 pl-3">
                      <button className="text-left" aria-current={c.name === chosen.name}>
                        <span className="font-semibold">{c.name}</span>
                        {c.name !== c.connector && (
                          <span className="text-second"> · {c.connector_title}</span>
                        )}
                      </button>
                    </td>
                    <td className="pr-2 text-right text-xs text-second whitespace-nowrap">
                      {c.used_by.length > 0 ? plural(c.used_by.length, "workflow") : ""}
                    </td>
                    <td className="w-1 pr-3 text-right">
                      <State c={c} />
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
          <Detail key={chosen.name} c={chosen} />
        </div>
      )}
    </div>
  );
}

function State({ c }: { c: Connection }) {
  switch (c.state) {
    case "ok":
      return c.held_until ? (
        <Badge tone="amber">Told to wait</Badge>
      ) : c.missing.length > 0 ? (
        <Badge tone="amber">Lacks something</Badge>
      ) : (
        <Badge tone="leaf">Works</Badge>
      );
    case "broken":
      return <Badge tone="rust">Does not work</Badge>;
    case "consent":
      return <Badge tone="amber">Not signed in</Badge>;
    case "confirm":
      return <Badge tone="amber">To confirm</Badge>;
    default:
      return <Badge>Not checked</Badge>;
  }
}

function Detail({ c }: { c: Connection }) {
  const connectors = useConnectors();
  const connector = connectors.data?.connectors.find((k) => k.name === c.connector);
  const way = connector?.sign_in.find((w) => w.method === c.method);
  const { check, confirm, remove } = useConnectionChanges(c.name);
  const account = asFields(c.account);
  return (
    <section className="card p-5" aria-label={c.name}>
      <div className="mb-1 flex items-center gap-2.5">
        <h2 className="font-serif text-[18px] font-semibold">{c.name}</h2>
        <span className="text-second">{c.connector_title}</span>
        <span className="ml-auto">
          <State c={c} />
        </span>
      </div>
      <p className={`mb-3 ${c.state === "broken" ? "text-rust" : ""}`}>{c.words}.</p>
      {c.state === "consent" && (
        <div className="mb-3 rounded-lg border border-amber p-3">
          <p className="mb-2">
            The application asks on a page of its own whether Young Trellis may use the account.
          </p>
          <ConsentButton connection={c.name} />
        </div>
      )}
      {c.state === "confirm" && (
        <div className="mb-3 rounded-lg border border-amber p-3">
          <p className="mb-2">
            Somebody signed in as <b>{c.said}</b>. Is that the right account? Nothing uses it before you say
            so.
          </p>
          <div className="flex gap-2">
            <button
              className="btn btn-main"
              disabled={confirm.isPending}
              onClick={() => {
                confirm.mutate(undefined, {
                  onSuccess: (k) => toast(`${k.name} is active; runs that waited go on`),
                });
              }}
            >
              Yes, use it
            </button>
            <ConsentButton connection={c.name} again />
          </div>
          <Trouble error={confirm.error} />
        </div>
      )}
      {c.waiting ? (
        <p className="mb-3 text-amber">
          {plural(c.waiting, "run")} {c.waiting === 1 ? "waits" : "wait"} for it, and{" "}
          {c.waiting === 1 ? "goes" : "go"} on when it works again.
        </p>
      ) : null}
      {c.held_until && (
        <p className="mb-3 text-amber">
          No call is made before {when(c.held_until)}: {c.held_why}
        </p>
      )}
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
        {c.method !== "none" && (
          <Fact name="Secret">{c.hint ? `ends in ${c.hint}` : "kept, never shown"}</Fact>
        )}
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
                ...c.grants.map(
                  (g) => `${g.name ?? g.email}${g.actions ? ` (${g.actions.join(", ")})` : ""}`,
                ),
              ].join(", ")}
        </Fact>
        <Fact name="Last checked">
          {c.checked
            ? `${when(c.checked)}${c.took_ms !== undefined ? `, in ${String(Math.max(1, c.took_ms))} ms` : ""}`
            : "never"}
        </Fact>
      </dl>
      <Trouble error={check.error ?? remove.error} />
      <div className="mb-5 flex flex-wrap gap-2">
        <button
          className="btn"
          disabled={check.isPending}
          onClick={() => {
            check.mutate(undefined, { onSuccess: (k) => toast(k.words) });
          }}
        >
          Check
        </button>
        {connector && <Mend c={c} connector={connector} />}
        {way?.consent && c.state !== "consent" && c.state !== "confirm" && (
          <ConsentButton connection={c.name} again />
        )}
        <Shape c={c} />
        <button
          className="btn btn-plain ml-auto"
          disabled={remove.isPending}
          onClick={() => {
            remove.mutate(undefined, { onSuccess: () => toast(`Removed ${c.name}`) });
          }}
        >
          Remove
        </button>
      </div>
      <Calls c={c} />
    </section>
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

function Calls({ c }: { c: Connection }) {
  const calls = useCalls(c.name);
  const list = calls.data?.calls ?? [];
  return (
    <div>
      <h3 className="mb-1.5 font-semibold">Last calls</h3>
      {calls.data && list.length === 0 && <div className="text-second">Nothing was called yet.</div>}
      {list.length > 0 && (
        <table className="w-full table-fixed">
          <tbody>
            {list.slice(0, 12).map((k, i) => (
              <tr key={i} className="border-t border-rule align-top">
                <td className="w-[84px] py-1 text-second whitespace-nowrap">{when(k.at)}</td>
                <td className="py-1 pr-2">
                  <div className="truncate font-mono text-xs" title={k.address}>
                    {k.method} {k.address.replace(c.pin, "")}
                  </div>
                  {k.failure && <div className="text-rust">{k.failure}</div>}
                </td>
                <td className={`w-10 py-1 text-right ${k.status >= 400 ? "text-rust" : "text-second"}`}>
                  {k.status > 0 ? k.status : ""}
                </td>
                <td className="w-16 py-1 text-right text-second whitespace-nowrap">
                  {Math.max(1, k.took_ms)} ms
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </div>
  );
}

function Mend({ c, connector }: { c: Connection; connector: Connector }) {
  const [open, setOpen] = useState(false);
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger className={`btn ${c.state === "broken" ? "btn-main" : ""}`}>
        {c.state === "broken" ? "Mend" : "Enter it anew"}
      </Dialog.Trigger>
      <Frame title={`${c.name}, ${c.connector_title}`}>
        <p className="mb-3 text-second">
          A new address needs the secret again: it never goes where it was not entered for.
        </p>
        <SignInForm
          connector={connector}
          known={c}
          onDone={(k) => {
            toast(k.words);
            setOpen(k.state === "broken");
          }}
        />
      </Frame>
    </Dialog.Root>
  );
}

/** Its limits, and who may build with it. */
function Shape({ c }: { c: Connection }) {
  const [open, setOpen] = useState(false);
  const [calls, setCalls] = useState(String(c.limits?.calls ?? ""));
  const [seconds, setSeconds] = useState(String(c.limits?.seconds ?? 1));
  const [parallel, setParallel] = useState(String(c.limits?.parallel ?? ""));
  const [everyone, setEveryone] = useState(c.everyone);
  const [people, setPeople] = useState(c.grants.map((g) => g.email).join("\n"));
  const { set: save } = useConnectionChanges(c.name);
  const wanted = (): Schemas["ConnectionSettings"] => ({
    everyone,
    ...(calls || parallel
      ? {
          limits: {
            calls: Number(calls || 0),
            seconds: Number(seconds || 1),
            parallel: Number(parallel || 0),
          },
        }
      : {}),
    grants: everyone
      ? []
      : people
          .split(/[\s,]+/)
          .filter(Boolean)
          .map((email) => {
            const actions = c.grants.find((g) => g.email === email)?.actions;
            return actions ? { email, actions } : { email };
          }),
  });
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger className="btn">Limits and builders</Dialog.Trigger>
      <Frame title={`${c.name}: limits and builders`}>
        <form
          onSubmit={(e) => {
            e.preventDefault();
            save.mutate(wanted(), {
              onSuccess: () => {
                toast(`Changed ${c.name}`);
                setOpen(false);
              },
            });
          }}
        >
          <div className="mb-1 grid grid-cols-3 gap-3">
            <div>
              <label className="label" htmlFor="limit-calls">
                Calls
              </label>
              <input
                id="limit-calls"
                className="field"
                type="number"
                min={0}
                value={calls}
                onChange={(e) => {
                  setCalls(e.target.value);
                }}
              />
            </div>
            <div>
              <label className="label" htmlFor="limit-seconds">
                in seconds
              </label>
              <input
                id="limit-seconds"
                className="field"
                type="number"
                min={0.1}
                step="any"
                value={seconds}
                onChange={(e) => {
                  setSeconds(e.target.value);
                }}
              />
            </div>
            <div>
              <label className="label" htmlFor="limit-parallel">
                At once
              </label>
              <input
                id="limit-parallel"
                className="field"
                type="number"
                min={0}
                value={parallel}
                onChange={(e) => {
                  setParallel(e.target.value);
                }}
              />
            </div>
          </div>
          <div className="hint mb-4">Kept over all machines. Empty: as the connector says.</div>
          <label className="mb-2 flex items-center gap-2">
            <input
              type="checkbox"
              className="accent-leaf"
              checked={everyone}
              onChange={(e) => {
                setEveryone(e.target.checked);
              }}
            />
            Every builder may use it
          </label>
          {!everyone && (
            <div className="mb-3">
              <label className="label" htmlFor="grants">
                Besides administrators, these people
              </label>
              <textarea
                id="grants"
                className="field h-20 py-1.5"
                placeholder="one address of mail on a line"
                value={people}
                onChange={(e) => {
                  setPeople(e.target.value);
                }}
              />
            </div>
          )}
          <Trouble error={save.error} />
          <div className="flex justify-end gap-2">
            <Dialog.Close className="btn">Not now</Dialog.Close>
            <button className="btn btn-main" disabled={save.isPending}>
              Change it
            </button>
          </div>
        </form>
      </Frame>
    </Dialog.Root>
  );
}

/** Finds the application, else takes a pasted call. */
export function ChooseConnector({
  onChoose,
  onPaste,
}: {
  onChoose: (c: Connector) => void;
  onPaste: () => void;
}) {
  const focus = useFirstFocus<HTMLInputElement>();
  const connectors = useConnectors();
  const [find, setFind] = useState("");
  const fitting =
    connectors.data?.connectors.filter((c) =>
      `${c.title} ${c.about} ${c.name}`.toLowerCase().includes(find.toLowerCase()),
    ) ?? [];
  return (
    <>
      <input
        className="field mb-3"
        aria-label="Find the application"
        placeholder="Find the application"
        ref={focus}
        value={find}
        onChange={(e) => {
          setFind(e.target.value);
        }}
      />
      <div className="grid max-h-[46vh] gap-2 overflow-auto sm:grid-cols-2">
        {fitting.map((c) => (
          <button
            key={c.name}
            type="button"
            className="rounded-lg border border-rule p-2.5 text-left hover:border-leaf hover:bg-tint"
            onClick={() => {
              onChoose(c);
            }}
          >
            <span className="font-semibold">{c.title}</span>
            <br />
            <span className="text-second">{c.about}</span>
          </button>
        ))}
        {connectors.data && fitting.length === 0 && (
          <div className="p-2 text-second">No connector is called so.</div>
        )}
      </div>
      <div className="mt-3 border-t border-rule pt-3 text-second">
        Not there?{" "}
        <button type="button" className="text-leafink underline" onClick={onPaste}>
          Paste a call from its documentation
        </button>
        , or import its OpenAPI document under Connectors.
      </div>
    </>
  );
}

function AddConnection({ onAdded }: { onAdded: (c: Connection) => void }) {
  const [open, setOpen] = useState(false);
  const [chosen, setChosen] = useState<Connector>();
  const [pasting, setPasting] = useState(false);
  const close = (on: boolean) => {
    setOpen(on);
    if (!on) {
      setChosen(undefined);
      setPasting(false);
    }
  };
  return (
    <Dialog.Root open={open} onOpenChange={close}>
      <Dialog.Trigger className="btn btn-main">Add a connection</Dialog.Trigger>
      <Frame
        title={pasting ? "Paste a call" : chosen ? `Connect ${chosen.title}` : "Which application?"}
        wide={!chosen}
      >
        {pasting && (
          <PasteCall
            onConnected={(c) => {
              onAdded(c);
            }}
          />
        )}
        {!pasting && !chosen && (
          <ChooseConnector
            onChoose={setChosen}
            onPaste={() => {
              setPasting(true);
            }}
          />
        )}
        {chosen && (
          <SignInForm
            connector={chosen}
            onDone={(c) => {
              toast(c.state === "consent" ? `${c.name} is stored; now sign in` : c.words);
              close(false);
              onAdded(c);
            }}
          />
        )}
        {(chosen ?? pasting) && (
          <button
            type="button"
            className="btn btn-plain mt-2 px-0"
            onClick={() => {
              setChosen(undefined);
              setPasting(false);
            }}
          >
            Another application
          </button>
        )}
      </Frame>
    </Dialog.Root>
  );
}
