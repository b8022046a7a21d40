import { useQueryClient } from "@tanstack/react-query";
import { Link, useParams } from "@tanstack/react-router";
import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import { toast } from "sonner";
import { asFields, type Fields, type Rehearsal, type Workflow } from "../api/client";
import { has, renamesOf, useDraft, type Edit } from "../api/draft";
import { useSaveLater } from "../api/useSaveLater";
import { useRehearsal, useWorkflow, usePause, useRehearse } from "../api/workflows";
import { useSamples } from "../api/samples";
import { FieldList } from "../lattice/FieldList";
import { Legend } from "../lattice/Legend";
import { SampleLattice, type Place } from "../lattice/SampleLattice";
import { isGroup, triggerOf } from "../lattice/address";
import { fateWords, rowFor } from "../lattice/shape";
import { Badge, Trouble, Waiting } from "../ui/parts";
import { plural, rowWords } from "../ui/words";
import { Changes } from "../run/Changes";
import { Focus, type Inserting } from "../form/focus";
import { GoLive } from "../workbench/GoLive";
import { StartByHand } from "../workbench/StartByHand";
import { Outline } from "../workbench/Outline";
import { TextView } from "../workbench/TextView";
import { useLines } from "../workbench/useLines";

export function Workbench() {
  const { workflow: name } = useParams({ from: "/workflows/$workflow" });
  const workflow = useWorkflow(name);
  if (workflow.isPending) return <Waiting what="Opening the workbench" />;
  if (!workflow.data)
    return (
      <div className="p-5">
        <Trouble error={workflow.error} />
      </div>
    );
  return <Bench key={name} workflow={workflow.data} />;
}

/** Gathers quick edits of one setting into one, and sends them in order. */
function useGathered(send: (edits: Edit[]) => void) {
  const waiting = useRef(new Map<string, Edit>());
  const timer = useRef<ReturnType<typeof setTimeout>>(undefined);
  const flush = useCallback(() => {
    clearTimeout(timer.current);
    const edits = [...waiting.current.values()];
    waiting.current.clear();
    if (edits.length > 0) send(edits);
  }, [send]);
  useEffect(() => flush, [flush]);
  return {
    flush,
    edit: useCallback(
      (edits: Edit[]) => {
        for (const e of edits) {
          waiting.current.set(`${e.op} ${e.step ?? ""} ${e.key ?? ""}`, e);
        }
        clearTimeout(timer.current);
        timer.current = setTimeout(flush, 350);
      },
      [flush],
    ),
  };
}

function Bench({ workflow }: { workflow: Workflow }) {
  const client = useQueryClient();
  const draft = useDraft(workflow.name);
  const rehearsal = useRehearsal(workflow.name);
  const samples = useSamples(workflow.name);
  const [opened, setChosen] = useState<string>();
  const chosen = opened === undefined ? undefined : renamesOf(workflow.name).now(opened, has(workflow)); // it may have got another name
  const [asText, setAsText] = useState(false);
  const [spot, setSpot] = useState<Place>();
  const focus = useMemo<Inserting>(() => ({ current: undefined }), []);
  const { edit: gather, flush } = useGathered(draft.edit.mutate);
  const [turned, setTurned] = useState(0);
  const choose = useCallback(
    (key: string | undefined) => {
      flush();
      setChosen(key);
      const at =
        key === undefined
          ? -1
          : (client
              .getQueryData<Rehearsal>(["rehearsal", workflow.name])
              ?.columns.findIndex((c) => c.name === key) ?? -1);
      if (key !== undefined) setSpot((s) => (s ? { ...s, column: Math.max(0, at) } : s));
    },
    [client, flush, workflow.name],
  );
  const lines = useLines(workflow, draft, flush, choose);
  const edit = (edits: Edit[]) => {
    const [one, more] = edits;
    if (one && more === undefined && (one.op === "set" || one.op === "trigger")) gather(edits);
    else if (one?.op === "remove") void lines.careful(edits, "Gone");
    else if (one?.op === "rename") {
      const to = one.step?.includes("/")
        ? `${one.step.split("/")[0] ?? ""}/${String(one.value)}`
        : String(one.value);
      renamesOf(workflow.name).did(one.step ?? "", to);
      void lines.change(edits, "Renamed");
    } else void lines.change(edits);
  };
  const { back } = lines;
  useEffect(() => {
    const key = (e: KeyboardEvent) => {
      const letter = (e.ctrlKey || e.metaKey) && !e.altKey ? e.key.toLowerCase() : "";
      if (
        (letter !== "z" && letter !== "y") ||
        (e.target as HTMLElement).closest("input, textarea, [contenteditable=true], [role=dialog]")
      )
        return;
      e.preventDefault();
      back(letter === "y" || e.shiftKey ? "forth" : "back");
    };
    window.addEventListener("keydown", key);
    return () => {
      window.removeEventListener("keydown", key);
    };
  }, [back]);
  const undone = draft.turn.submittedAt;
  useEffect(() => {
    if (draft.turn.isSuccess) setTurned((n) => n + 1);
  }, [draft.turn.isSuccess, undone]);
  const { mutate: saveText } = draft.save;

  const rehearse = useRehearse(workflow.name);
  const fresh = {
    onSuccess: () => {
      setSpot(undefined);
    },
  };
  const pause = usePause(workflow.name);
  const typing = useSaveLater(saveText);

  const seen = rehearsal.data;
  const columnOf = (name: string | undefined) => seen?.columns.findIndex((c) => c.name === name) ?? -1;
  const chosenLine = workflow.lines.find((l) => l.name === chosen && l.kind !== "case");
  const chosenAt = columnOf(chosenLine?.name);
  const shown = {
    row: rowFor(seen?.rows ?? [], spot?.row ?? 0, chosenAt),
    column: spot?.column ?? Math.max(0, chosenAt),
  };
  const before = itemBefore(seen, shown.row, chosenAt >= 0 ? chosenAt : shown.column);
  const trigger = asFields(
    seen?.items?.[triggerOf(seen.rows[shown.row]?.address ?? "0") ?? 0] ?? samples.data?.samples[0]?.fields,
  );
  const isFirst = chosenLine !== undefined && chosenLine === workflow.lines[0];
  const item = !chosenLine
    ? undefined
    : ((chosenAt >= 0 ? before : undefined) ??
      (isFirst && samples.data?.samples.length ? trigger : undefined));
  const rowName = seen?.rows[shown.row] && rowWords(shown.row + 1, seen.rows[shown.row]?.label);
  const saving = draft.edit.isPending || draft.save.isPending || draft.turn.isPending;

  return (
    <Focus.Provider value={focus}>
      <div className="grid h-full grid-cols-[minmax(380px,37%)_minmax(0,1fr)] overflow-hidden">
        <section className="flex min-h-0 flex-col border-r border-rule" aria-label="Outline">
          <div className="px-5 pt-4 pb-1.5">
            <Title workflow={workflow} onEdit={edit} />
            <div className="mt-1 flex items-center gap-2 text-second">
              <Badge tone={workflow.state === "live" ? "leaf" : "plain"}>
                {workflow.state === "live"
                  ? `Live, revision ${String(workflow.live)}`
                  : workflow.state === "paused"
                    ? "Paused"
                    : "Draft"}
              </Badge>
              {workflow.live !== undefined && workflow.changed > 0 && (
                <span>the draft differs in {plural(workflow.changed, "line")}</span>
              )}
              <Link to="/runs" className="ml-auto hover:underline">
                Runs
              </Link>
              {workflow.state === "live" && (
                <button
                  className="hover:text-ink hover:underline"
                  onClick={() => {
                    pause.mutate(undefined, {
                      onSuccess: () => toast("Paused: nothing starts it for now"),
                    });
                  }}
                >
                  Pause
                </button>
              )}
            </div>
          </div>
          <div className="min-h-0 flex-1 overflow-auto pb-4">
            {asText ? (
              <TextView key={workflow.name} text={workflow.document} onChange={typing.later} />
            ) : (
              <Outline
                workflow={workflow}
                rehearsal={seen}
                chosen={chosen}
                onChoose={choose}
                onEdit={edit}
                does={lines}
                item={item}
                trigger={trigger}
                row={rowName}
                turned={turned}
              />
            )}
          </div>
          <Look workflow={workflow} onChoose={setChosen} />
        </section>
        <section className="flex min-h-0 flex-col px-5 py-3" aria-label="Samples through the lines">
          <div className="mb-2.5 flex items-center gap-2">
            <span className="mr-auto text-second">
              {seen ? (
                <>
                  Rows from the last rehearsal
                  {seen.version !== workflow.version && (
                    <span className="text-amber">, the draft has changed since</span>
                  )}
                </>
              ) : (
                `${plural(samples.data?.samples.length ?? 0, "sample")}`
              )}
            </span>
            <span className="text-xs text-third" role="status">
              {saving ? "Saving…" : draft.edit.isError || draft.save.isError ? "" : "Draft saved"}
            </span>
            <button
              className="btn btn-plain"
              aria-pressed={asText}
              onClick={() => {
                flush();
                typing.flush();
                setAsText(!asText);
              }}
            >
              {asText ? "As sentences" : "As text"}
            </button>
            {workflow.live !== undefined && <StartByHand workflow={workflow} />}
            {chosenLine && chosenLine !== workflow.lines[workflow.lines.length - 1] && (
              <button
                className="btn"
                disabled={rehearse.isPending}
                onClick={() => {
                  flush();
                  rehearse.mutate(chosenLine.name, fresh);
                }}
              >
                Rehearse to here
              </button>
            )}
            <button
              className="btn"
              disabled={rehearse.isPending}
              onClick={() => {
                flush();
                rehearse.mutate(undefined, fresh);
              }}
            >
              {rehearse.isPending ? "Rehearsing…" : "Rehearse"}
            </button>
            <GoLive workflow={workflow} />
          </div>
          <Trouble error={draft.edit.error ?? draft.save.error ?? rehearse.error ?? pause.error} />
          {!seen && !rehearse.isPending && (
            <Invitation workflow={workflow} samples={samples.data?.samples.length ?? 0} />
          )}
          {seen && (
            <Sheet
              seen={seen}
              spot={spot}
              onSpot={(s) => {
                setSpot(s);
              }}
              chosen={chosen}
              use={(p) => {
                if (focus.current) focus.current(p);
                else toast("Put the cursor into a setting first");
              }}
              before={itemBefore(seen, shown.row, shown.column)}
              at={shown}
            />
          )}
        </section>
      </div>
    </Focus.Provider>
  );
}

/** The item of a row as it came to a line: what the line above gave. */
function itemBefore(r: Rehearsal | undefined, row: number, line: number): Fields | undefined {
  const cells = r?.rows[row]?.cells;
  if (!r || !cells) return undefined;
  for (let i = line - 1; i >= 0; i--) if (cells[i]?.fields !== undefined) return asFields(cells[i]?.fields);
  const n = triggerOf(r.rows[row]?.address ?? "0");
  return n !== undefined && r.items?.[n] !== undefined ? asFields(r.items[n]) : undefined;
}

function Title({ workflow, onEdit }: { workflow: Workflow; onEdit: (edits: Edit[]) => void }) {
  const [title, setTitle] = useState(workflow.title);
  return (
    <input
      aria-label="Title"
      className="-mx-1 w-full rounded-md border border-transparent bg-transparent px-1 font-serif text-[21px] font-semibold hover:border-rule"
      value={title}
      onChange={(e) => {
        setTitle(e.target.value);
      }}
      onBlur={() => {
        if (title && title !== workflow.title) onEdit([{ op: "set", key: "title", value: title }]);
      }}
    />
  );
}

function Look({ workflow, onChoose }: { workflow: Workflow; onChoose: (name: string) => void }) {
  const problems = workflow.problems.filter((p) => !p.gap);
  const gaps = workflow.problems.length - problems.length;
  const first = problems.find((p) => p.severity === "error") ?? problems[0];
  if (!first)
    return gaps > 0 ? (
      <div className="m-4 mt-0 px-3 text-second">
        {plural(gaps, "thing")} to fill in before it can go live.
      </div>
    ) : null;
  return (
    <div className="m-4 mt-0 rounded-lg bg-ambertint px-3 py-2.5 text-ink">
      <b className="text-amber">
        {problems.length === 1 ? "One thing to look at." : `${String(problems.length)} things to look at.`}
      </b>{" "}
      {first.step
        ? `Line ${workflow.lines.find((l) => l.name === first.step && l.number)?.number ?? ""}: `
        : ""}
      {first.message} {first.cure}{" "}
      {(first.step ?? (first.path.startsWith("trigger") ? "-" : "")) && (
        <button
          className="underline"
          onClick={() => {
            onChoose(first.step ?? "-");
          }}
        >
          Show
        </button>
      )}
    </div>
  );
}

function Invitation({ workflow, samples }: { workflow: Workflow; samples: number }) {
  const words =
    workflow.lines.length === 0
      ? "Add a first line on the left: say what should happen."
      : workflow.trigger_type === "webhook" && samples === 0
        ? "Take a sample first: open the first line on the left, then take the next call, or write one."
        : "Rehearse to see every record’s way through the lines. Nothing leaves the building.";
  return (
    <div className="card flex flex-1 items-center justify-center p-10 text-center font-serif text-[16px] text-second">
      {words}
    </div>
  );
}

interface SheetProps {
  seen: Rehearsal;
  spot: Place | undefined;
  onSpot: (s: Place) => void;
  chosen: string | undefined;
  use: (path: string) => void;
  before: Fields | undefined;
  at: Place;
}

function Sheet({ seen, spot, onSpot, chosen, use, before, at }: SheetProps) {
  const [requests, setRequests] = useState(false);
  const alone =
    seen.columns[0]?.lists &&
    new Set(seen.rows.flatMap((r) => (isGroup(r.address) ? [] : [triggerOf(r.address)]))).size <= 1;
  const row = seen.rows[at.row];
  const cell = row?.cells[at.column];
  const reads = seen.columns.filter((c) => c.kind === "read").reduce((n, c) => n + c.calls, 0);
  return (
    <>
      <div className="flex min-h-[160px] flex-1 flex-col">
        <SampleLattice
          columns={seen.columns}
          rows={seen.rows}
          start={alone ? undefined : "Sample"}
          spot={spot}
          onSpot={onSpot}
          chosen={chosen}
        />
      </div>
      <div className="py-2">
        <Legend
          fates={[...new Set(seen.rows.flatMap((r) => r.cells.map((c) => c.fate)))]}
          simulated={seen.rows.some((r) => r.cells.some((c) => c.simulated))}
        />
      </div>
      <div className="card max-h-[38%] min-h-[150px] shrink-0 overflow-auto p-3.5">
        <div className="mb-2 flex gap-6">
          <div className="min-w-0 flex-1">
            <h2 className="mb-1.5 text-xs font-semibold text-second">
              {row
                ? `Row ${String(at.row + 1)} as it comes to line ${seen.columns[at.column]?.line ?? ""}`
                : "No row"}
              <span className="font-normal text-third"> · choose a field to use it</span>
            </h2>
            {before && <FieldList fields={before} onUse={use} />}
          </div>
          {cell && (
            <div className="min-w-0 flex-1">
              <h2 className="mb-1.5 text-xs font-semibold text-second">
                {fateWords(cell.fate)}
                {cell.text ? `: ${cell.text}` : ""}
              </h2>
              {cell.simulated && (
                <div className="mb-1.5 text-xs text-second">
                  ≈ Nothing was sent, so what came back is a sample answer
                  {cell.sent?.prepared ? "" : " of a line above"}; the real one will differ.
                </div>
              )}
              {cell.sent?.prepared ? (
                <pre className="overflow-auto rounded-lg bg-paper p-2 font-mono text-xs whitespace-pre-wrap">
                  {cell.sent.method} {cell.sent.url}
                  {"\n\n"}
                  {cell.sent.body}
                </pre>
              ) : (
                cell.fields !== undefined &&
                (before ? (
                  <Changes before={before} after={asFields(cell.fields)} />
                ) : (
                  <FieldList fields={asFields(cell.fields)} />
                ))
              )}
            </div>
          )}
        </div>
        <div>
          <b>Nothing was sent.</b>{" "}
          <span className="text-second">
            {plural(reads, "real read")}; {plural(seen.prepared, "write")} only prepared.
          </span>{" "}
          {seen.prepared > 0 && (
            <button
              className="text-second underline"
              onClick={() => {
                setRequests(!requests);
              }}
            >
              {requests ? "Hide them" : "Show them"}
            </button>
          )}
        </div>
        {seen.message && <div className="mt-1 text-rust">{seen.message}</div>}
        {requests && (
          <div className="mt-2 space-y-2">
            {seen.rows.flatMap((r) =>
              r.cells.map((c, i) =>
                c.sent?.prepared ? (
                  <div key={`${r.address}-${String(i)}`}>
                    <div className="text-xs text-second">
                      row {r.row}, {seen.columns[i]?.sentence}
                    </div>
                    <pre className="overflow-auto rounded-lg bg-paper p-2 font-mono text-xs whitespace-pre-wrap">
                      {c.sent.method} {c.sent.url}
                      {"\n"}
                      {c.sent.body}
                    </pre>
                  </div>
                ) : null,
              ),
            )}
          </div>
        )}
      </div>
    </>
  );
}
