import type { Column, Fate, Row } from "../api/client";
import { bornAt, ownerAt } from "./address";
import { at, type Open, type Shown } from "./columns";
import { CURVED, type Line } from "./lines";
import { goesOn, reached } from "./shape";

export const HEIGHT = 33; // of a line
export const DOWN = 25; // of the stem within it
export const MARK = 11; // from a column's edge to the mark's centre

/** What is drawn: lines, the rows that they show as far as they are loaded, and the columns. */
export interface Drawing {
  lines: Line[];
  rowsOf: (line: number) => Row[] | undefined;
  columns: Column[];
  shown: Shown[];
  open: Open;
}

export interface Path {
  d: string;
  tone: "leaf" | "amber";
  many: boolean; // several that are alike
  column: number; // among the shown: where it ends
}

export interface Spot {
  line: number;
  column: number; // among the shown
  fate: Fate;
  text: string;
  row: Row;
  reused: boolean;
  simulated: boolean; // made from a sample answer, since nothing was sent
  passed: number; // how many lines of the same item stand above, out of sight
  bends: boolean; // its stem goes on to another line, so that its text ends earlier
}

const y = (line: number) => line * HEIGHT + DOWN;

/** Works out the stems and marks of the lines from one to another. */
export function drawn(g: Drawing, from: number, to: number): { paths: Path[]; spots: Spot[] } {
  const paths: Path[] = [];
  const spots: Spot[] = [];
  const first = Math.max(0, from - CURVED);
  const last = Math.min(g.lines.length - 1, to + CURVED);
  const cells = new Map<number, (Cell | undefined)[]>();
  const cell = (line: number, k: number) => {
    let list = cells.get(line);
    if (!list) cells.set(line, (list = cellsOf(g, line)));
    return list[k];
  };
  const stand = (line: number, k: number) => anchor(g, cell, line, k, from);
  const bent = new Set<string>();
  const groups = new Map<string, number>();
  for (let i = first; i <= last; i++) for (const r of (g.rowsOf(i) ?? []).slice(1)) groups.set(r.address, i);
  for (let i = first; i <= last; i++) {
    for (let k = 0; k < g.shown.length; k++) {
      const c = cell(i, k);
      if (!c) continue;
      const target = c.fate === "joined" && c.row.into !== undefined ? groups.get(c.row.into) : undefined;
      const own = stand(i, k);
      if (target === undefined && own.line !== i) continue;
      const many = (g.lines[i]?.count ?? 1) > 1 && !sharedWith(cell, i, k, g.lines.length);
      const before = c.born && c.row === g.rowsOf(i)?.[0] ? -1 : previous(cell, i, k);
      if (before >= 0) {
        const up = stand(i, before);
        const source = cell(up.line, before) ?? c;
        if (target !== undefined || up.line !== i) bent.add(`${String(up.line)} ${String(before)}`);
        paths.push({
          d: path(g, before, up.line, k, target ?? i, up.large),
          tone: source.fate === "fell_back" || source.fate === "went_on" ? "amber" : "leaf",
          many,
          column: k,
        });
      }
      // A lattice of one column has no other to which a stem could grow: it runs beneath the text.
      const only = g.shown.length === 1 ? g.shown[0] : undefined;
      if (only && goesOn(c.fate) && own.line === i)
        paths.push({
          d: `M${String(only.left + MARK)} ${String(y(i))}H${String(only.left + only.width - MARK)}`,
          tone: c.fate === "fell_back" || c.fate === "went_on" ? "amber" : "leaf",
          many,
          column: k,
        });
      const hidden = c.fate === "joined" ? undefined : joinsBehind(g, c.row, k, groups);
      if (hidden && own.line === i) bent.add(`${String(i)} ${String(k)}`);
      if (hidden && own.line === i)
        paths.push({
          d: path(g, k, i, hidden.column, hidden.line, false),
          tone: "leaf",
          many,
          column: hidden.column,
        });
      if (target === undefined && i >= from && i <= to)
        spots.push({
          line: i,
          column: k,
          fate: c.fate,
          text: c.text,
          row: c.row,
          reused: c.reused,
          simulated: c.simulated,
          passed: own.above,
          bends: false,
        });
    }
  }
  for (const s of spots) s.bends = bent.has(`${String(s.line)} ${String(s.column)}`);
  return { paths, spots };
}

interface Cell {
  row: Row;
  fate: Fate;
  text: string;
  owner: string;
  born: boolean;
  reused: boolean;
  simulated: boolean;
}

function cellsOf(g: Drawing, line: number): (Cell | undefined)[] {
  const rows = g.rowsOf(line);
  if (!rows) return [];
  return g.shown.map(({ index }) => {
    const s = at(rows, g.columns, index, g.open);
    if (!s || !reached(s.cell.fate)) return undefined;
    const born = bornAt(s.row.address, g.columns);
    return {
      row: s.row,
      fate: s.cell.fate,
      text: s.cell.text,
      owner: ownerAt(s.row.address, g.columns, index),
      born: born >= 0 && g.shown.find((x) => x.index >= born)?.index === index,
      reused: s.cell.reused ?? false,
      simulated: s.cell.simulated ?? false,
    };
  });
}

/**
 * Where the item of a row goes on that joined a group within a closed nest behind
 * a column: the line of the group, and the next column that is drawn.
 */
function joinsBehind(
  g: Drawing,
  row: Row,
  k: number,
  groups: ReadonlyMap<string, number>,
): { line: number; column: number } | undefined {
  const line = row.into === undefined ? undefined : groups.get(row.into);
  if (line === undefined) return undefined;
  const join = row.cells.findIndex((c) => c.fate === "joined");
  const column = g.shown.findIndex((s) => s.index > join);
  const last = g.shown.findLastIndex((s) => s.index < join && reached(row.cells[s.index]?.fate));
  return join >= 0 && column > k && last === k && !g.shown.some((s) => s.index === join)
    ? { line, column }
    : undefined;
}

type Look = (line: number, k: number) => Cell | undefined;

/** Whether other lines show the same item at a column: it is one, however many are alike behind it. */
const sharedWith = (cell: Look, line: number, k: number, lines: number) => {
  const owner = cell(line, k)?.owner;
  return (
    owner !== undefined &&
    !owner.includes("-") &&
    ((line > 0 && cell(line - 1, k)?.owner === owner) ||
      (line + 1 < lines && cell(line + 1, k)?.owner === owner))
  );
};

/** The column before one from which an item came there. */
function previous(cell: Look, line: number, k: number): number {
  for (let p = k - 1; p >= 0; p--) {
    const c = cell(line, p);
    if (c && (goesOn(c.fate) || c.fate === "joined")) return c.fate === "joined" ? -1 : p;
  }
  return -1;
}

/**
 * The line on which an item stands that several lines share: the middle one of a
 * few, the first that is in sight of many.
 */
function anchor(
  g: Drawing,
  cell: Look,
  line: number,
  k: number,
  from: number,
): { line: number; large: boolean; above: number } {
  const owner = cell(line, k)?.owner;
  let a = line;
  let b = line;
  while (a > 0 && (line - a < CURVED || a > from) && owner !== undefined && cell(a - 1, k)?.owner === owner)
    a--;
  while (b < g.lines.length - 1 && b - a < CURVED && owner !== undefined && cell(b + 1, k)?.owner === owner)
    b++;
  if (b - a < CURVED && line - a < CURVED)
    return { line: a + Math.floor((b - a) / 2), large: false, above: 0 };
  const top = Math.max(a, from);
  return { line: line < from ? line : top, large: true, above: top > a || line - a >= CURVED ? 1 : 0 };
}

function path(g: Drawing, from: number, line: number, to: number, down: number, large: boolean): string {
  const a = g.shown[from];
  const b = g.shown[to];
  if (!a || !b) return "";
  const x0 = a.left + MARK;
  const x1 = b.left + MARK;
  const y0 = y(line);
  const y1 = y(down);
  if (y0 === y1) return `M${n(x0)} ${n(y0)}H${n(x1)}`;
  const end = b.left - 2;
  const bend = Math.max(x0 + 2, end - 40);
  if (large)
    return `M${n(x0)} ${n(y0)}H${n(end - 16)}Q${n(end - 8)} ${n(y0)} ${n(end - 8)} ${n(y0 + 8)}V${n(y1 - 8)}Q${n(end - 8)} ${n(y1)} ${n(end)} ${n(y1)}H${n(x1)}`;
  const half = (end - bend) / 2;
  return `M${n(x0)} ${n(y0)}H${n(bend)}C${n(bend + half)} ${n(y0)} ${n(end - half)} ${n(y1)} ${n(end)} ${n(y1)}H${n(x1)}`;
}

const n = (v: number) => String(Math.round(v * 10) / 10);
