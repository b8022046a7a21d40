import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import { type Column, type Fate, type Row } from "../api/client";
import { rowsOf } from "../api/runs";
import { plural } from "../ui/words";
import { Lattice, type Spot } from "./Lattice";
import { without, type Open } from "./columns";
import { linesOf, sheetsOf, type Line } from "./lines";
import { Others } from "./Others";
import { reached } from "./shape";
import { useAllRows, useRows, useShape, withinOf, WHOLE, type Look } from "./source";
import { startColumns, startRow } from "./start";
import type { Round } from "./Heads";

interface Props {
  run: string;
  columns: Column[];
  start: string | undefined; // head of the trigger's column; undefined: there is none
  fate: Fate | undefined;
  stamp: number; // rises when the run has got further
  spot: Spot | undefined;
  row: Row | undefined; // that of the spot
  named?: string | undefined; // rows of this name are lit
  onSpot: (spot: Spot, row: Row | undefined) => void;
}

/** The lattice of a run: small ones whole, with joins as curves; large ones in bands, of which windows are loaded. */
export function RunLattice({ run, columns: steps, start, fate, stamp, spot, row, named, onSpot }: Props) {
  const [open, setOpen] = useState<Open>({});
  const columns = useMemo(
    () => (start === undefined ? steps : startColumns(steps, start, steps[0]?.in ?? 0)),
    [steps, start],
  );
  const within = useMemo(() => withinOf(open, columns), [open, columns]);
  const all = useMemo<Look>(() => ({ run, band: "", within, fate }), [run, within, fate]);
  const shape = useShape(all);
  const rounds = useRounds(all, open, columns);
  const onOpen = useCallback(
    (c: Column, into: string | undefined) => {
      setOpen((o) =>
        into === undefined
          ? without(o, c.name)
          : { ...o, [c.name]: into === "" ? firstRound(c, columns, o) : into },
      );
    },
    [columns],
  );
  const kin = useMemo(
    () => new Set(row ? [row.address, ...(row.into === undefined ? [] : [row.into])] : named ? [named] : []),
    [row, named],
  );
  const shared = { columns, open, onOpen, rounds, spot, kin, onSpot };
  useStays(all, spot, row, onSpot);
  const data = shape.data;
  if (!data) return null;
  if (data.total <= WHOLE && !fate) return <Whole {...shared} look={all} start={start !== undefined} />;
  const shift = start === undefined ? 0 : 1;
  return (
    <div className="flex min-h-0 flex-1 flex-col gap-2">
      {data.bands.map((b, i) => (
        <Band
          key={b.band}
          {...shared}
          look={{ run, band: b.band, within, fate }}
          stamp={stamp}
          start={start !== undefined}
          first={i === 0}
          row={row}
          title={i === 0 ? "Items by steps" : below(b.band, steps)}
          range={[b.band === "-" ? 0 : b.first + shift, b.last + shift]}
        />
      ))}
    </div>
  );
}

/** Keeps the chosen row chosen when other rows are looked at: its place is another then. */
function useStays(look: Look, spot: Spot | undefined, row: Row | undefined, onSpot: Props["onSpot"]) {
  const before = useRef(look);
  useEffect(() => {
    if (before.current === look) return;
    before.current = look;
    if (!spot || !row) return;
    let gone = false;
    void rowsOf(look.run, {
      band: spot.band,
      around: row.address,
      count: 1,
      ...(look.within.length > 0 ? { within: look.within } : {}),
      ...(look.fate ? { fate: look.fate } : {}),
    }).then(
      (l) => {
        if (!gone && l.place !== undefined) onSpot({ ...spot, at: l.place }, row);
      },
      () => undefined,
    );
    return () => {
      gone = true;
    };
  }, [look, spot, row, onSpot]);
}

const firstRound = (c: Column, columns: Column[], open: Open): string => {
  const of = columns.find((x) => x.name === c.within);
  const around = of?.nest === "loop" ? open[of.name] : undefined;
  return around ? `${around}/1` : "1";
};

const below = (band: string, columns: Column[]) =>
  band === "on_failure"
    ? "What was done as the run failed"
    : `What came of “${columns.find((c) => c.name === band)?.sentence ?? band}”`;

/** The rounds of the innermost loop that is open. */
function useRounds(look: Look, open: Open, columns: Column[]): Readonly<Record<string, Round[]>> {
  const loops = columns.filter((c) => c.nest === "loop" && open[c.name] !== undefined);
  const inner = loops.at(-1);
  const only = useMemo(
    () => ({ ...look, within: look.within.filter((w) => !inner || w.startsWith(`${inner.name}/`)) }),
    [look, inner],
  );
  const shape = useShape(only);
  return useMemo(
    () => (inner && shape.data?.rounds ? { [inner.name]: shape.data.rounds } : {}),
    [inner, shape.data],
  );
}

interface Shared {
  columns: Column[];
  open: Open;
  onOpen: (c: Column, into: string | undefined) => void;
  rounds: Readonly<Record<string, Round[]>>;
  spot: Spot | undefined;
  kin: ReadonlySet<string>;
  onSpot: (spot: Spot, row: Row | undefined) => void;
  start: boolean;
}

function Whole({ look, start, columns, onSpot, ...shared }: Shared & { look: Look }) {
  const rows = useAllRows(look);
  const others = useShape(useMemo(() => ({ ...look, band: "-" }), [look])).data?.others;
  const sheets = useMemo(
    () =>
      sheetsOf(
        (rows.data?.rows ?? []).map((r) => (start ? startRow(r) : r)),
        columns,
      ),
    [rows.data, start, columns],
  );
  const known = useCallback((l: Line) => l.rows, []);
  return (
    <div className="flex min-h-0 flex-1 flex-col gap-2">
      {sheets.map((s, i) => {
        const named = i === 0 ? "Items by steps" : below(s.band, columns);
        const choose = (spot: Spot) => {
          const line = s.lines.find((l) => l.at === spot.at);
          onSpot(spot, rowAt(line?.rows, columns, spot.column));
        };
        return (
          <section
            key={s.band}
            aria-label={named}
            className={`flex min-h-0 flex-col ${i === 0 ? "flex-[3]" : "max-h-[46%] min-h-[158px] flex-1"}`}
          >
            {i > 0 && (
              <h2 className="pb-1 text-xs text-second">
                Below: {named.charAt(0).toLowerCase() + named.slice(1)}
              </h2>
            )}
            <Lattice
              {...shared}
              columns={columns}
              band={s.band}
              title={named}
              range={reach(s.lines, columns)}
              lines={s.lines}
              rowsOf={known}
              unfold={() => undefined}
              onSpot={choose}
              aside={i === 0 && look.within.length > 0 && others ? <Others list={others} /> : undefined}
            />
          </section>
        );
      })}
      {rows.data && sheets.length === 0 && <div className="card flex-1 p-6 text-second">No rows yet.</div>}
    </div>
  );
}

/** Of the rows on a line, the one that had begun by a column. */
const rowAt = (rows: Row[] | undefined, columns: Column[], column: number): Row | undefined =>
  rows?.findLast((r) => reached(r.cells[column]?.fate)) ?? rows?.at(columns.length > 0 ? 0 : 0);

/** The first and last column to which any row of a sheet came. */
function reach(lines: Line[], columns: Column[]): [number, number] {
  let from = columns.length;
  let to = 0;
  for (const l of lines)
    for (const r of l.rows ?? [])
      r.cells.forEach((c, i) => {
        if (reached(c.fate)) {
          from = Math.min(from, i);
          to = Math.max(to, i);
        }
      });
  return [from, Math.max(from, to)];
}

interface BandProps extends Shared {
  look: Look;
  stamp: number; // rises when the run has got further
  title: string;
  range: [number, number];
  first: boolean;
  row: Row | undefined; // the chosen one
}

function Band({ look, title, range, first, row, stamp, start, columns, onSpot, ...shared }: BandProps) {
  const [unfolded, setUnfolded] = useState<ReadonlySet<number>>(new Set());
  const at = useMemo(() => look, [JSON.stringify(look)]); // eslint-disable-line react-hooks/exhaustive-deps
  const shape = useShape(at);
  const lines = useMemo(() => linesOf(shape.data?.lines ?? [], unfolded), [shape.data, unfolded]);
  const { need, rowsOf } = useRows(at, stamp, start);
  const rowOf = useCallback(
    (spot: Spot) => {
      const l = lines.find((x) => spot.at >= x.at && spot.at < x.at + x.count);
      return l && rowsOf(l)?.[0];
    },
    [lines, rowsOf],
  );
  const choose = (spot: Spot) => {
    onSpot(spot, rowOf(spot));
  };
  const { spot } = shared;
  const late = spot?.band === look.band && !spot.seeks && !row ? rowOf(spot) : undefined; // chosen before it was loaded
  useEffect(() => {
    if (spot && late) onSpot(spot, late);
  }, [spot, late, onSpot]);
  if (shape.data && lines.length === 0 && !first) return null;
  return (
    <section
      aria-label={title}
      className={`flex min-h-0 flex-col ${first ? "flex-[3]" : "max-h-[46%] min-h-[158px] flex-1"}`}
    >
      {!first && (
        <h2 className="pb-1 text-xs text-second">
          Below: {title.charAt(0).toLowerCase() + title.slice(1)}, {plural(shape.data?.matching ?? 0, "row")}
        </h2>
      )}
      <Lattice
        {...shared}
        columns={columns}
        band={look.band}
        title={title}
        range={range}
        lines={lines}
        rowsOf={rowsOf}
        need={need}
        unfold={(l) => {
          setUnfolded(new Set([...unfolded, l.at]));
        }}
        onSpot={choose}
        aside={shape.data?.others && <Others list={shape.data.others} />}
      />
    </section>
  );
}
