import { useMutation, useQueries, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useParams } from "@tanstack/react-router";
import { useCallback, useMemo, useState } from "react";
import { toast } from "sonner";
import { ask, asFields, http, type Fate, type Row, type Run } from "../api/client";
import { latticeWindow, useOpened, useRun, WINDOW } from "../api/queries";
import { FieldList } from "../lattice/FieldList";
import { Lattice, Legend, type Spot } from "../lattice/Lattice";
import { Mark } from "../lattice/marks";
import { isGroup, ownerAt, triggerOf } from "../lattice/address";
import { fateWords } from "../lattice/shape";
import { Badge, Trouble, Waiting } from "../ui/parts";
import { plural, stateWords, took, triedWords, when } from "../ui/words";

export function RunPage() {
  const { run: id } = useParams({ from: "/runs/$run" });
  const run = useRun(id);
  const [fate, setFate] = useState<Fate>();
  const [windows, setWindows] = useState<[number, number]>([0, 0]);
  const [spot, setSpot] = useState<Spot>();
  // The first window is always kept: it knows how many rows there are.
  const pages = useMemo(() => [...new Set([0, ...Array.from({ length: windows[1] - windows[0] + 1 }, (_, i) => windows[0] + i)])], [windows]);
  const loaded = useQueries({ queries: pages.map((p) => latticeWindow(id, p, fate)) });
  const known = loaded.find((q) => q.data)?.data;
  const rows = useMemo(() => {
    const out = new Array<Row | undefined>(known?.matching ?? 0).fill(undefined);
    loaded.forEach((q, i) => q.data?.rows.forEach((r, j) => { out[(pages[i] ?? 0) * WINDOW + j] = r; }));
    return out;
  }, [loaded, pages, known?.matching]);
  const need = useCallback((from: number, to: number) => { setWindows([Math.floor(from / WINDOW), Math.floor(to / WINDOW)]); }, []);
  if (run.isPending) return <Waiting what="Reading the run" />;
  if (!run.data) return <div className="p-5"><Trouble error={run.error} /></div>;
  const { columns } = run.data;
  const fates = Object.entries(known?.fates ?? {}).filter(([, n]) => n > 0) as [Fate, number][];
  const alone = new Set(rows.flatMap((r) => (r && !isGroup(r.address) ? [triggerOf(r.address)] : []))).size <= 1 && columns[0]?.lists;
  const at = spot && rows[spot.row];
  const address = at && spot ? ownerAt(at.address, columns, spot.column) : undefined;
  return (
    <div className="mx-auto flex h-full max-w-[1280px] flex-col px-5 pt-3 pb-2">
      <Head run={run.data} />
      <div className="mb-2 flex items-baseline justify-between">
        <Figures run={run.data} />
        <div className="text-second">
          Rows: <Filter on={!fate} choose={() => { setFate(undefined); }}>all {known?.total ?? 0}</Filter>
          {fates.map(([f, n]) => <span key={f}> · <Filter on={fate === f} choose={() => { setFate(f); setSpot(undefined); }}>{fateWords(f)} {n}</Filter></span>)}
        </div>
      </div>
      <div className="flex min-h-[180px] flex-1 flex-col">
        <Lattice columns={columns} rows={rows} start={alone ? undefined : run.data.run.trigger === "webhook" ? "Call that arrived" : "Started by hand"} spot={spot} onSpot={setSpot} need={need} chosen={spot ? columns[spot.column]?.name : undefined} />
      </div>
      <div className="flex justify-between py-2">
        <Legend fates={[...new Set([...rows.flatMap((r) => r?.cells.map((c) => c.fate) ?? [])])]} />
        <div className="hidden text-xs text-second lg:block">Move with <kbd className="rounded border border-rule px-1">↑</kbd> <kbd className="rounded border border-rule px-1">→</kbd>, next trouble <kbd className="rounded border border-rule px-1">n</kbd></div>
      </div>
      {address !== undefined && spot && <OpenedCell run={run.data} address={address} step={columns[spot.column]?.name ?? "-"} label={at?.label ?? ""} />}
    </div>
  );
}

function Filter({ on, choose, children }: { on: boolean; choose: () => void; children: React.ReactNode }) {
  return <button className={on ? "font-semibold text-ink" : "hover:text-ink hover:underline"} aria-pressed={on} onClick={choose}>{children}</button>;
}

function Head({ run: { run, passes } }: { run: Run }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const state = stateWords(run);
  const path = { params: { path: { run: run.id } } };
  const again = () => { void client.invalidateQueries({ queryKey: ["run", run.id] }); void client.invalidateQueries({ queryKey: ["lattice", run.id] }); void client.invalidateQueries({ queryKey: ["cell", run.id] }); };
  const retry = useMutation({ mutationFn: () => ask(http.POST("/runs/{run}/retry", { ...path, body: {} })), onSuccess: () => { toast("Trying again what was set aside"); again(); } });
  const resume = useMutation({ mutationFn: () => ask(http.POST("/runs/{run}/resume", { ...path, body: {} })), onSuccess: () => { toast("Going on where it stopped"); again(); } });
  const cancel = useMutation({ mutationFn: () => ask(http.POST("/runs/{run}/cancel", path)), onSuccess: again });
  const start = useMutation({
    mutationFn: () => ask(http.POST("/workflows/{workflow}/start", { params: { path: { workflow: run.workflow } }, body: {} })),
    onSuccess: (s) => navigate({ to: "/runs/$run", params: { run: s.run } }),
  });
  const last = passes[passes.length - 1];
  const open = ["queued", "running", "waiting"].includes(run.state);
  return (
    <>
      <div className="mb-1.5 flex items-center gap-3">
        <h1><Link to="/workflows/$workflow" params={{ workflow: run.workflow }} className="hover:underline">{run.title}</Link></h1>
        <Badge tone={state.tone}>{state.words}</Badge>
        <span className="truncate text-second">{when(run.accepted)} · revision {run.revision} · {run.trigger === "webhook" ? "by a call" : `by ${passes[0]?.started_by ?? "hand"}`}{passes.length > 1 && ` · pass ${String(passes.length)}, ${last?.kind ?? ""}`}</span>
        <div className="ml-auto flex gap-2">
          {open && <button className="btn" disabled={cancel.isPending} onClick={() => { cancel.mutate(); }}>{run.cancelling ? "Cut its calls" : "Cancel"}</button>}
          {!open && run.trigger === "manual" && <button className="btn" disabled={start.isPending} onClick={() => { start.mutate(); }}>Start again</button>}
          {run.state === "failed" && <button className="btn btn-main" disabled={resume.isPending} onClick={() => { resume.mutate(); }}>Go on where it stopped</button>}
          {!open && (run.counts?.set_aside ?? 0) > 0 && <button className="btn btn-main" disabled={retry.isPending} onClick={() => { retry.mutate(); }}>Retry {plural(run.counts?.set_aside ?? 0, "item")} set aside</button>}
        </div>
      </div>
      {run.message && run.state !== "succeeded" && <div className={run.state === "waiting" ? "mb-1 text-amber" : "mb-1 text-rust"}>{run.message}</div>}
      {open && run.cancelling && <div className="mb-1 text-amber">Nothing further begins. Calls that are under way are awaited; if they are cut, nobody knows whether they had their effect.</div>}
      <Trouble error={retry.error ?? resume.error ?? cancel.error ?? start.error} />
    </>
  );
}

function Figures({ run: { run } }: { run: Run }) {
  const c = run.counts;
  if (!c) return <span />;
  const figures: [number, string][] = [[c.in, "in"], [c.through, "through"], [c.joined ?? 0, "joined groups"], [c.held_back, "held back"], [c.gave_nothing, "gave nothing"], [c.set_aside, "set aside"], [c.stopped, "stopped"], [c.may_have_been_sent, "may have been sent"], [c.not_done, "not done"]];
  return (
    <div className="flex gap-5">
      {figures.filter(([n, w]) => n > 0 || w === "in").map(([n, w]) => <span key={w} className="text-second"><b className="font-semibold text-ink">{n.toLocaleString("en")}</b> {w}</span>)}
      {run.ended && <span className="font-semibold">{took(run.accepted, run.ended)}</span>}
      {c.calls > 0 && <span className="text-second"><b className="font-semibold text-ink">{c.calls}</b> {c.calls === 1 ? "call" : "calls"}{c.units > 0 && <>, <b className="font-semibold text-ink">{c.units}</b> units</>}</span>}
    </div>
  );
}

function OpenedCell({ run, address, step, label }: { run: Run; address: string; step: string; label: string }) {
  const opened = useOpened(run.run.id, address, step);
  const client = useQueryClient();
  const [request, setRequest] = useState(false);
  const retry = useMutation({
    mutationFn: () => ask(http.POST("/runs/{run}/retry", { params: { path: { run: run.run.id } }, body: { items: [address] } })),
    onSuccess: () => { toast(`Trying ${label} again`); void client.invalidateQueries(); },
  });
  const keep = useMutation({
    mutationFn: async () => {
      const trigger = await ask(http.GET("/runs/{run}/cells/{address}/{step}", { params: { path: { run: run.run.id, address, step: "-" } } }));
      return ask(http.POST("/workflows/{workflow}/samples", { params: { path: { workflow: run.run.workflow } }, body: { fields: trigger.before, source: `from run ${run.run.id.slice(0, 8)}` } }));
    },
    onSuccess: () => { toast("Kept as a sample of the workflow"); },
  });
  const o = opened.data;
  if (opened.isPending) return <div className="card mb-2 h-[190px] shrink-0"><Waiting what="Opening" /></div>;
  if (!o) return <Trouble error={opened.error} />;
  const bad = ["set_aside", "may_have_been_sent"].includes(o.cell.fate);
  return (
    <section aria-label="The opened cell" className="card mb-2 grid h-[210px] shrink-0 grid-cols-[1.1fr_1.2fr_0.9fr] divide-x divide-rule overflow-hidden">
      <div className="overflow-auto p-3.5">
        <h2 className="mb-1.5 text-xs font-semibold text-second">{step === "-" ? "As it arrived" : `${o.label || "The item"} when it came here`}</h2>
        {o.made_of !== undefined && <div className="mb-1.5 text-second">Made of {plural(o.made_of, "item")}.</div>}
        {(o.made_of === undefined || Object.keys(asFields(o.before)).length > 0) && <FieldList fields={asFields(o.before)} />}
      </div>
      <div className="overflow-auto p-3.5">
        <h2 className="mb-1.5 text-xs font-semibold text-second">{o.sentence}</h2>
        {o.sent && <div className="mb-1 font-mono text-xs break-all">{o.sent.status ?? "not sent"} {o.sent.method} {new URL(o.sent.url).pathname}</div>}
        {o.failure ? (
          <>
            <div className="mb-1 font-semibold text-rust">{o.failure.message}</div>
            <div className="mb-2 text-second">{triedWords(o.failure)}</div>
          </>
        ) : (
          <div className="mb-2 flex items-center gap-1.5"><Mark fate={o.cell.fate} /> <span className="font-medium">{fateWords(o.cell.fate)}</span> <span className="text-second">{o.cell.text}</span></div>
        )}
        {!o.failure && o.after !== undefined && <details className="mb-2" open={!o.sent}><summary className="cursor-pointer text-second">What went on from here</summary><div className="mt-1"><FieldList fields={asFields(o.after)} /></div></details>}
        {request && o.sent && <pre className="mb-2 overflow-auto rounded-lg bg-paper p-2 font-mono text-xs whitespace-pre-wrap">{o.sent.method} {o.sent.url}{"\n\n"}{o.sent.body}</pre>}
        <div className="flex flex-wrap gap-1.5">
          {bad && <button className="btn" disabled={retry.isPending} onClick={() => { retry.mutate(); }}>{o.cell.fate === "may_have_been_sent" ? "Send it again" : "Retry this one"}</button>}
          {o.sent && <button className="btn" onClick={() => { setRequest(!request); }}>{request ? "Hide the request" : "Show the request"}</button>}
          {o.link && <a className="btn" href={o.link} target="_blank" rel="noreferrer noopener">Open the record</a>}
          <button className="btn" disabled={keep.isPending} onClick={() => { keep.mutate(); }}>Make it a sample</button>
        </div>
      <Trouble error={retry.error ?? keep.error} />
      </div>
      <div className="overflow-auto p-3.5">
        <h2 className="mb-1.5 text-xs font-semibold text-second">Its way here</h2>
        <ol className="space-y-1.5">
          {o.way.map((w, i) => <li key={w.step} className={`flex gap-2 ${w.step === step ? "font-semibold" : ""}`}><span className="text-third">{i + 1}</span><span className="mt-0.5 shrink-0"><Mark fate={w.fate} /></span><span className="min-w-0">{w.sentence}{w.text && <span className="text-second">: {w.text}</span>}</span></li>)}
        </ol>
      </div>
    </section>
  );
}
