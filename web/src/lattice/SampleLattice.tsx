import { useCallback, useMemo, useState } from "react";
import type { Column, Row } from "../api/client";
import { Lattice, type Spot } from "./Lattice";
import { visible, without, type Open } from "./columns";
import { bandOf, sheetsOf, type Line } from "./lines";
import { Others } from "./Others";
import { reached } from "./shape";
import { startColumns, startRow } from "./start";

/** A row of a rehearsal and one of its columns. */
export interface Place {
  row: number; // place among the rows, from 0
  column: number; // -1: the trigger
}

interface Props {
  columns: Column[];
  rows: Row[];
  start: string | undefined;
  spot: Place | undefined;
  onSpot: (p: Place) => void;
  chosen: string | undefined;
}

/** The lattice of a rehearsal: all of its rows are at hand. */
export function SampleLattice({ columns: steps, rows: given, start, spot, onSpot, chosen }: Props) {
  const [open, setOpen] = useState<Open>({});
  const shift = start === undefined ? 0 : 1;
  const columns = useMemo(
    () => (start === undefined ? steps : startColumns(steps, start, steps[0]?.in ?? 0)),
    [steps, start],
  );
  const { rows, others } = useMemo(
    () => narrowed(start === undefined ? given : given.map(startRow), columns, open),
    [given, start, columns, open],
  );
  const sheets = useMemo(() => sheetsOf(rows, columns), [rows, columns]);
  const rowsOf = useCallback((l: Line) => l.rows, []);
  const onOpen = (c: Column, into: string | undefined) => {
    setOpen((o) => (into === undefined ? without(o, c.name) : { ...o, [c.name]: into === "" ? "1" : into }));
  };
  const rounds = useMemo(
    () =>
      Object.fromEntries(
        columns
          .filter((c) => c.nest === "loop" && open[c.name] !== undefined)
          .map((c) => [c.name, roundsOf(given, steps, c.name)]),
      ),
    [columns, open, given, steps],
  );
  const address = spot && given[spot.row]?.address;
  const find = (lines: Line[]) => lines.find((l) => l.rows?.some((r) => r.address === address));
  return (
    <div className="flex min-h-0 flex-1 flex-col gap-2">
      {sheets.map((s, i) => {
        const line = find(s.lines);
        const at: Spot | undefined =
          spot && line ? { band: s.band, at: line.at, column: spot.column + shift } : undefined;
        const choose = (to: Spot) => {
          const list = s.lines.find((l) => l.at === to.at)?.rows;
          const row = list?.findLast((r) => reached(r.cells[to.column]?.fate)) ?? list?.[0];
          const place = given.findIndex((r) => r.address === row?.address);
          if (place >= 0) onSpot({ row: place, column: to.column - shift });
        };
        return (
          <section
            key={s.band}
            aria-label={title(s.band, columns, i)}
            className={`flex min-h-0 flex-col ${i === 0 ? "flex-[3]" : "max-h-[34%] min-h-[104px] flex-1"}`}
          >
            {i > 0 && (
              <h2 className="pb-1 text-xs text-second">Below: {title(s.band, columns, i).toLowerCase()}</h2>
            )}
            <Lattice
              columns={columns}
              band={s.band}
              title={title(s.band, columns, i)}
              range={reach(s.lines, columns, open)}
              lines={s.lines}
              rowsOf={rowsOf}
              unfold={() => undefined}
              open={open}
              onOpen={onOpen}
              rounds={rounds}
              spot={at}
              onSpot={choose}
              chosen={chosen}
              aside={i === 0 && others.length > 0 ? <Others list={others} /> : undefined}
            />
          </section>
        );
      })}
      {sheets.length === 0 && <div className="card flex-1 p-6 text-second">No rows.</div>}
    </div>
  );
}

const title = (band: string, columns: Column[], i: number) =>
  i === 0
    ? "Items by steps"
    : band === "on_failure"
      ? "What would be done if the run failed"
      : `What came of “${columns.find((c) => c.name === band)?.sentence ?? band}”`;

/** The first and last column of a sheet: those to which its rows came, and in the first also those behind that no row reached. */
function reach(lines: Line[], columns: Column[], open: Open): [number, number] {
  let from = columns.length - 1;
  let to = 0;
  for (const l of lines)
    for (const r of l.rows ?? [])
      r.cells.forEach((c, i) => {
        if (reached(c.fate)) {
          from = Math.min(from, i);
          to = Math.max(to, i);
        }
      });
  if (lines[0]?.rows?.[0] && bandOf(lines[0].rows[0], columns) === "-")
    to = Math.max(
      to,
      columns.findLastIndex((c) => !c.on_failure && visible(c, columns, open)),
    );
  return [Math.min(from, to), to];
}

/** The rows that went through the cases that are looked into, and how many went other ways. */
function narrowed(
  rows: Row[],
  columns: Column[],
  open: Open,
): { rows: Row[]; others: { way: string; rows: number }[] } {
  let out = rows;
  let others: { way: string; rows: number }[] = [];
  columns.forEach((c, i) => {
    const into = open[c.name];
    if (into === undefined || into === "fallback" || !visible(c, columns, open)) return;
    const way = c.ways?.find((w) => w.name === into)?.way;
    const inside = (r: Row) =>
      c.nest === "loop"
        ? r.cells.some(
            (x, j) =>
              columns[j]?.within === c.name &&
              x.round !== undefined &&
              (x.round === into || x.round.startsWith(`${into}/`)),
          )
        : r.cells[i]?.text === way ||
          columns.some((x, j) => x.within === c.name && x.case === into && reached(r.cells[j]?.fate));
    const away = new Map<string, number>();
    for (const r of out)
      if (!inside(r)) away.set(r.cells[i]?.text ?? "", (away.get(r.cells[i]?.text ?? "") ?? 0) + 1);
    if (c.nest === "branch") others = [...away].map(([w, n]) => ({ way: w, rows: n }));
    out = out.filter(inside);
  });
  return { rows: out, others };
}

/** The rounds of a loop in which rows stand. */
function roundsOf(rows: Row[], columns: Column[], loop: string) {
  const found = new Map<string, { rows: number; trouble: number }>();
  for (const r of rows) {
    const cell = r.cells.find((x, j) => columns[j]?.within === loop && x.round !== undefined);
    if (cell?.round === undefined) continue;
    const have = found.get(cell.round) ?? { rows: 0, trouble: 0 };
    found.set(cell.round, {
      rows: have.rows + 1,
      trouble: have.trouble + (r.cells.some((x) => x.fate === "set_aside" || x.fate === "stopped") ? 1 : 0),
    });
  }
  return [...found]
    .map(([round, n]) => ({ round, ...n }))
    .sort((a, b) => a.round.localeCompare(b.round, "en", { numeric: true }));
}
