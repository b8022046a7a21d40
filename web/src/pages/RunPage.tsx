import { useNavigate, useParams, useSearch } from "@tanstack/react-router";
import { useCallback, useEffect, useMemo, useState } from "react";
import type { Fate, Row, Run } from "../api/client";
import { useRun } from "../api/runs";
import { useMe } from "../api/session";
import { ownerAt } from "../lattice/address";
import { lastWithin } from "../lattice/columns";
import type { Spot } from "../lattice/Lattice";
import { Legend } from "../lattice/Legend";
import { RunLattice } from "../lattice/RunLattice";
import { fateWords, goesOn } from "../lattice/shape";
import { useShape } from "../lattice/source";
import { START, startColumns } from "../lattice/start";
import { AsList } from "../run/AsList";
import { Beside } from "../run/Beside";
import { Figures } from "../run/Figures";
import { useFirst } from "../run/first";
import { OpenedCell } from "../run/OpenedCell";
import { useTroubleKeys } from "../run/useTroubleKeys";
import { RunHead } from "../run/RunHead";
import { Waterfall } from "../run/Waterfall";
import { Trouble, Waiting } from "../ui/parts";

export function RunPage() {
  const { run: id } = useParams({ from: "/runs/$run" });
  const run = useRun(id);
  const me = useMe();
  if (run.isPending) return <Waiting what="Reading the run" />;
  if (!run.data)
    return (
      <div className="p-5">
        <Trouble error={run.error} />
      </div>
    );
  if (me.data?.items === false) return <WithoutItems run={run.data} />;
  return <Opened key={id} run={run.data} />;
}

/** A run for those who may not see what items hold: how it went, step by step. */
function WithoutItems({ run }: { run: Run }) {
  return (
    <div className="mx-auto max-w-[1680px] px-5 py-3">
      <RunHead run={run} />
      <Figures run={run} />
      <p className="my-3 text-second">
        What the items hold is not shown to you. A viewer sees it once an administrator has granted it.
      </p>
      <div className="card overflow-auto">
        <Waterfall run={run} />
      </div>
    </div>
  );
}

const ways = ["lattice", "list", "times"] as const;
type Way = (typeof ways)[number];
const wayWords: Record<Way, string> = { lattice: "Lattice", list: "As a list", times: "Times" };

function Opened({ run }: { run: Run }) {
  const { item, step, beside } = useSearch({ from: "/runs/$run" });
  const navigate = useNavigate();
  const [fate, setFate] = useState<Fate>();
  const [way, setWay] = useState<Way>("lattice");
  const [chosen, setChosen] = useState<{ spot: Spot; row: Row | undefined }>();
  const stamp = run.run.pass * 1_000_000_000 + (run.run.counts?.through ?? 0) + (run.run.counts?.calls ?? 0);
  const look = useMemo(() => ({ run: run.run.id, band: "", within: [], fate: undefined }), [run.run.id]);
  const shape = useShape(look);
  const start = startOf(run);
  const columns = useMemo(
    () => (start === undefined ? run.columns : startColumns(run.columns, start, run.run.counts?.in ?? 0)),
    [run, start],
  );
  const choose = useCallback(
    (spot: Spot, row: Row | undefined) => {
      setChosen({ spot, row });
      if (!row) return;
      const at = opensAt(row, columns, spot.column);
      void navigate({
        to: "/runs/$run",
        params: { run: run.run.id },
        search: (s) => ({ ...s, item: ownerAt(row.address, columns, at), step: columns[at]?.name ?? START }),
        replace: true,
      });
    },
    [columns, navigate, run.run.id],
  );
  useFirst(run, columns, start !== undefined, shape.data, chosen === undefined, item, step, choose);
  useTroubleKeys();
  if (shape.isPending) return <Waiting what="Reading the run" />;
  const fates = Object.entries(shape.data?.fates ?? {}).filter(([, n]) => n > 0) as [Fate, number][];
  return (
    <div className="mx-auto flex h-full max-w-[1680px] flex-col px-5 pt-3 pb-2">
      <RunHead run={run} />
      <div className="mb-2 flex flex-wrap items-baseline gap-x-6 gap-y-1">
        <div className="mr-auto">
          <Figures run={run} />
        </div>
        <Rows
          total={shape.data?.total ?? 0}
          fates={fates}
          fate={fate}
          onFate={(f) => {
            setFate(f);
            if (f !== undefined) setChosen(undefined);
          }}
        />
        <div className="text-second">
          {ways.map((w, i) => (
            <span key={w}>
              {i > 0 && " · "}
              <Choice
                on={way === w}
                choose={() => {
                  setWay(w);
                }}
              >
                {wayWords[w]}
              </Choice>
            </span>
          ))}
          <Beside run={run} beside={beside} />
        </div>
      </div>
      <div className="flex min-h-[180px] flex-1 gap-4">
        {way === "lattice" && (
          <RunLattice
            run={run.run.id}
            columns={run.columns}
            start={start}
            fate={fate}
            stamp={stamp}
            spot={chosen?.spot}
            row={chosen?.row}
            onSpot={choose}
          />
        )}
        {way === "list" && <AsList run={run.run.id} columns={run.columns} fate={fate} />}
        {way === "times" && (
          <div className="card min-h-0 flex-1 overflow-auto">
            <Waterfall run={run} />
          </div>
        )}
        {beside !== undefined && <Other id={beside} fate={fate} label={chosen?.row?.label} />}
      </div>
      <div className="flex justify-between py-2">
        <Legend fates={legend(run, fates)} />
        <div className="hidden text-xs text-second lg:block">
          Move with <kbd className="rounded border border-rule px-1">↑</kbd>{" "}
          <kbd className="rounded border border-rule px-1">→</kbd>, trouble with{" "}
          <kbd className="rounded border border-rule px-1">n</kbd>{" "}
          <kbd className="rounded border border-rule px-1">p</kbd>
        </div>
      </div>
      {item !== undefined && <OpenedCell run={run} address={item} step={step ?? START} />}
    </div>
  );
}

/** The rows by what became of them. */
function Rows({
  total,
  fates,
  fate,
  onFate,
}: {
  total: number;
  fates: [Fate, number][];
  fate: Fate | undefined;
  onFate: (f: Fate | undefined) => void;
}) {
  return (
    <div className="text-second">
      Rows:{" "}
      <Choice
        on={!fate}
        choose={() => {
          onFate(undefined);
        }}
      >
        all {total.toLocaleString("en")}
      </Choice>
      {fates.map(([f, n]) => (
        <span key={f}>
          {" "}
          ·{" "}
          <Choice
            on={fate === f}
            choose={() => {
              onFate(f);
            }}
          >
            {fateWords(f)} {n.toLocaleString("en")}
          </Choice>
        </span>
      ))}
    </div>
  );
}

/** The head of the trigger's column; a list that a first step reads for a single start needs none. */
function startOf(run: Run): string | undefined {
  if ((run.run.counts?.in ?? 0) <= 1 && run.columns[0]?.lists) return undefined;
  return `Started ${run.run.began}`;
}

/** The column that is opened for a spot: of a closed nest in which the item ended, that step. */
function opensAt(row: Row, columns: Run["columns"], column: number): number {
  if (columns[column]?.nest === undefined) return column;
  const inner = lastWithin(row, columns, column);
  return inner >= 0 && !goesOn(row.cells[inner]?.fate) ? inner : column;
}

/** The marks that can occur in a run. */
function legend(run: Run, ends: [Fate, number][]): Fate[] {
  const out = new Set<Fate>();
  for (const c of run.columns) {
    if (c.out > 0) out.add(c.kind === "read" ? "read" : c.kind === "write" ? "written" : "passed");
    if (c.went_on) out.add("went_on");
    if (c.fell_back) out.add("fell_back");
  }
  for (const [f] of ends) out.add(f);
  return [...out];
}

function Choice({ on, choose, children }: { on: boolean; choose: () => void; children: React.ReactNode }) {
  return (
    <button
      className={on ? "font-semibold text-ink" : "hover:text-ink hover:underline"}
      aria-pressed={on}
      onClick={choose}
    >
      {children}
    </button>
  );
}

/** Another run of the workflow beside this one; the row of the same name is lit. */
function Other({ id, fate, label }: { id: string; fate: Fate | undefined; label: string | undefined }) {
  const run = useRun(id);
  const [chosen, setChosen] = useState<{ spot: Spot; row: Row | undefined }>();
  useEffect(() => {
    setChosen(undefined);
  }, [label]);
  if (!run.data) return <Waiting what="Reading the other run" />;
  return (
    <div className="flex min-w-0 flex-1 flex-col">
      <RunLattice
        run={id}
        columns={run.data.columns}
        start={startOf(run.data)}
        fate={fate}
        stamp={0}
        spot={chosen?.spot}
        row={chosen?.row}
        named={label}
        onSpot={(spot, row) => {
          setChosen({ spot, row });
        }}
      />
    </div>
  );
}
