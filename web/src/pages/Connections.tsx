import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useState, type FormEvent } from "react";
import { toast } from "sonner";
import { ask, asFields, http, type Connection, type Connector } from "../api/client";
import { useConnections, useConnectors } from "../api/queries";
import { Badge, Nothing, Trouble, Waiting } from "../ui/parts";
import { when } from "../ui/words";

export function Connections() {
  const list = useConnections();
  return (
    <div className="mx-auto max-w-[1240px] px-5 py-4">
      <div className="mb-3 flex items-center justify-between"><h1>Connections</h1><AddConnection /></div>
      <Trouble error={list.error} />
      {list.isPending && <Waiting what="Reading the connections" />}
      {list.data?.connections.length === 0 && <Nothing>No account is connected yet. Have an application’s key at hand and add it here; it is checked at once.</Nothing>}
      <div className="grid gap-3 lg:grid-cols-2">{list.data?.connections.map((c) => <Card key={c.name} c={c} />)}</div>
    </div>
  );
}

function Card({ c }: { c: Connection }) {
  const client = useQueryClient();
  const done = () => client.invalidateQueries({ queryKey: ["connections"] });
  const path = { params: { path: { connection: c.name } } };
  const check = useMutation({ mutationFn: () => ask(http.POST("/connections/{connection}/check", path)), onSuccess: (k) => { toast(k.state === "ok" ? `${k.name} works: ${k.said}` : k.said); void done(); } });
  const remove = useMutation({ mutationFn: () => ask(http.DELETE("/connections/{connection}", path)), onSuccess: () => { toast(`Removed ${c.name}`); void done(); } });
  return (
    <section className="card p-4" aria-label={c.name}>
      <div className="mb-1 flex items-center gap-2.5">
        <h2 className="font-serif text-[16px] font-semibold">{c.name}</h2><span className="text-second">{c.connector_title}</span>
        <span className="ml-auto">{c.state === "ok" ? <Badge tone="leaf">Works</Badge> : c.state === "broken" ? <Badge tone="rust">Does not work</Badge> : <Badge>Not checked</Badge>}</span>
      </div>
      <div className={c.state === "broken" ? "text-rust" : ""}>{c.state === "ok" ? `Signed in as ${c.said}` : c.said}</div>
      <dl className="my-2.5 grid grid-cols-[110px_1fr] gap-y-1 text-second">
        <dt>Used by</dt><dd className="text-ink">{c.used_by.length > 0 ? c.used_by.join(", ") : "nothing yet"}</dd>
        <dt>May be used with</dt><dd className="break-all">{c.pin}</dd>
        <dt>Secret</dt><dd>{c.hint ? `ends in ${c.hint}` : "kept, never shown"}</dd>
        <dt>Last checked</dt><dd>{c.checked ? when(c.checked) : "never"}</dd>
      </dl>
      <Trouble error={check.error ?? remove.error} />
      <div className="flex gap-2">
        <button className="btn" disabled={check.isPending} onClick={() => { check.mutate(); }}>Check</button>
        <Mend c={c} />
        <button className="btn btn-plain ml-auto" disabled={remove.isPending} onClick={() => { remove.mutate(); }}>Remove</button>
      </div>
    </section>
  );
}

function Frame({ title, children }: { title: string; children: React.ReactNode }) {
  return (
    <Dialog.Portal>
      <Dialog.Overlay className="fixed inset-0 bg-black/20" />
      <Dialog.Content className="card fixed top-[10vh] left-1/2 z-50 max-h-[84vh] w-[500px] max-w-[94vw] -translate-x-1/2 overflow-auto p-6 shadow-xl" aria-describedby={undefined}>
        <Dialog.Title className="mb-4 font-serif text-[18px] font-semibold">{title}</Dialog.Title>
        {children}
      </Dialog.Content>
    </Dialog.Portal>
  );
}

function Mend({ c }: { c: Connection }) {
  const connectors = useConnectors();
  const client = useQueryClient();
  const [open, setOpen] = useState(false);
  const [secret, setSecret] = useState("");
  const [account, setAccount] = useState<Record<string, string>>({});
  const connector = connectors.data?.connectors.find((k) => k.name === c.connector);
  const known = asFields(c.account);
  const mend = useMutation({
    mutationFn: () => ask(http.PUT("/connections/{connection}", { params: { path: { connection: c.name } }, body: { secret, account: { ...known, ...account } } })),
    onSuccess: (k) => {
      toast(k.state === "ok" ? `${k.name} works again; runs that waited go on` : k.said);
      setSecret("");
      setOpen(k.state !== "ok");
      void client.invalidateQueries({ queryKey: ["connections"] });
    },
  });
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger className={`btn ${c.state === "broken" ? "btn-main" : ""}`}>{c.state === "broken" ? "Mend" : "New secret"}</Dialog.Trigger>
      <Frame title={`${c.name}, ${c.connector_title}`}>
        <form onSubmit={(e: FormEvent) => { e.preventDefault(); mend.mutate(); }}>
          <Account connector={connector} values={{ ...strings(known), ...account }} onChange={setAccount} />
          <Secret connector={connector} value={secret} onChange={setSecret} />
          <Trouble error={mend.error} />
          <div className="flex justify-end gap-2"><Dialog.Close className="btn">Not now</Dialog.Close><button className="btn btn-main" disabled={mend.isPending || !secret}>Store and check</button></div>
        </form>
      </Frame>
    </Dialog.Root>
  );
}

const strings = (o: object) => Object.fromEntries(Object.entries(o).map(([k, v]) => [k, String(v)]));

function Account({ connector, values, onChange }: { connector: Connector | undefined; values: Record<string, string>; onChange: (v: Record<string, string>) => void }) {
  return connector?.account.map((p) => {
    const s = asFields(p.schema);
    const id = `account-${p.name}`;
    return (
      <div key={p.name} className="mb-3.5">
        <label className="label" htmlFor={id}>{String(s["title"] ?? p.name)}</label>
        <input id={id} className="field" required={p.required} value={values[p.name] ?? ""} onChange={(e) => { onChange({ ...values, [p.name]: e.target.value }); }} />
        <div className="hint mt-1">{String(s["description"] ?? "")}</div>
      </div>
    );
  });
}

function Secret({ connector, value, onChange }: { connector: Connector | undefined; value: string; onChange: (v: string) => void }) {
  const way = connector?.sign_in[0];
  if (!way) return null;
  return (
    <div className="mb-4">
      <label className="label" htmlFor="secret">{way.secret}</label>
      <input id="secret" className="field font-mono" type="password" autoComplete="off" required value={value} onChange={(e) => { onChange(e.target.value); }} />
      <div className="hint mt-1">{way.help} It is stored encrypted and never shown again.</div>
    </div>
  );
}

function AddConnection() {
  const connectors = useConnectors();
  const client = useQueryClient();
  const [open, setOpen] = useState(false);
  const [chosen, setChosen] = useState<Connector>();
  const [name, setName] = useState("");
  const [account, setAccount] = useState<Record<string, string>>({});
  const [secret, setSecret] = useState("");
  const add = useMutation({
    mutationFn: () => ask(http.POST("/connections", { body: { name, connector: chosen?.name ?? "", account, secret } })),
    onSuccess: (c) => {
      toast(c.state === "ok" ? `${c.name} works: signed in as ${c.said}` : `${c.name} is stored, but does not work yet`);
      setOpen(false); setChosen(undefined); setSecret(""); setAccount({}); setName("");
      void client.invalidateQueries({ queryKey: ["connections"] });
    },
  });
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger className="btn btn-main">Add a connection</Dialog.Trigger>
      <Frame title={chosen ? `Connect ${chosen.title}` : "Which application?"}>
        {!chosen && connectors.data?.connectors.map((c) => (
          <button key={c.name} className="mb-2 block w-full rounded-lg border border-rule p-3 text-left hover:border-leaf hover:bg-tint" onClick={() => { setChosen(c); setName(c.name); }}>
            <span className="font-semibold">{c.title}</span><br /><span className="text-second">{c.about}</span>
          </button>
        ))}
        {chosen && (
          <form onSubmit={(e: FormEvent) => { e.preventDefault(); add.mutate(); }}>
            <Account connector={chosen} values={account} onChange={setAccount} />
            <Secret connector={chosen} value={secret} onChange={setSecret} />
            <div className="mb-4">
              <label className="label" htmlFor="connection-name">What to call it here</label>
              <input id="connection-name" className="field" required pattern="[a-z][a-z0-9\-]*" title="Small letters, digits and hyphens" value={name} onChange={(e) => { setName(e.target.value); }} />
            </div>
            <Trouble error={add.error} />
            <div className="flex justify-between"><button type="button" className="btn btn-plain px-0" onClick={() => { setChosen(undefined); }}>Another application</button><button className="btn btn-main" disabled={add.isPending}>Store and check</button></div>
          </form>
        )}
      </Frame>
    </Dialog.Root>
  );
}
