import type { Column, Row } from "../api/client";
import { bornAt } from "./address";
import { goesOn, reached, trouble } from "./shape";

/** What is looked into: of a branch the case, of a loop the round, "fallback" of a step that has one; by the step's name. */
export type Open = Readonly<Record<string, string>>;

/** What is looked into without one step. */
export const without = (open: Open, name: string): Open =>
  Object.fromEntries(Object.entries(open).filter(([k]) => k !== name));

/** A column as it is drawn. */
export interface Shown {
  index: number; // among all columns, as cells are counted
  column: Column;
  left: number;
  width: number;
  thin: boolean; // folded to its marks
}

export const NUMBERS = 56; // width of the row numbers
export const THIN = 28;
export const LEAST = 150;
const MOST = 330;

/** Whether a column can be seen: the nests around it are open, in the case in which it stands. */
export function visible(column: Column, columns: Column[], open: Open): boolean {
  if (column.within === undefined) return true;
  const of = columns.find((c) => c.name === column.within);
  if (!of || !visible(of, columns, open)) return false;
  const into = open[of.name];
  if (into === undefined) return false;
  return of.nest === "loop" && column.case !== "fallback" ? true : into === (column.case ?? "");
}

/** Whether a nest is open and stands as a head above its columns, with none of its own. */
export const headOnly = (column: Column, columns: Column[], open: Open) =>
  (column.nest === "branch" || column.nest === "loop") &&
  open[column.name] !== undefined &&
  open[column.name] !== "fallback" &&
  columns.some((c) => c.within === column.name && visible(c, columns, open));

/** The columns of a band that can be seen, without their places. */
export const seen = (columns: Column[], open: Open, from: number, to: number) =>
  columns.flatMap((column, index) =>
    index >= from && index <= to && visible(column, columns, open) && !headOnly(column, columns, open)
      ? [{ column, index }]
      : [],
  );

/** Whether something is to be mended at a step, or within it. */
const troubled = (c: Column, columns: Column[]): boolean =>
  c.set_aside + c.stopped + c.may_have_been_sent + (c.went_on ?? 0) > 0 ||
  columns.some((x) => x.within === c.name && troubled(x, columns));

/**
 * Gives columns their widths. Where they do not fit, those that only compute are
 * folded to their marks: never the chosen one, its neighbours, or one with trouble.
 */
export function placed(
  list: { column: Column; index: number }[],
  columns: Column[],
  room: number,
  chosen: string | undefined,
  folds: ReadonlyMap<string, boolean>,
): Shown[] {
  const at = list.findIndex((x) => x.column.name === chosen);
  const thin = list.map(({ column }) => folds.get(column.name) ?? false);
  const needs = () => thin.reduce((sum, t) => sum + (t ? THIN : LEAST), NUMBERS);
  for (let i = list.length - 1; i > 0 && needs() > room; i--) {
    const c = list[i]?.column;
    if (
      !c ||
      folds.has(c.name) ||
      Math.abs(i - at) <= 1 ||
      c.kind === "read" ||
      c.kind === "write" ||
      c.nest !== undefined ||
      troubled(c, columns)
    )
      continue;
    thin[i] = true;
  }
  const wide = thin.filter((t) => !t).length;
  const each = Math.min(
    MOST,
    Math.max(LEAST, (room - NUMBERS - thin.filter((t) => t).length * THIN) / Math.max(1, wide)),
  );
  let left = NUMBERS;
  return list.map(({ column, index }, i) => {
    const width = thin[i] ? THIN : each;
    const out = { column, index, left, width, thin: thin[i] ?? false };
    left += width;
    return out;
  });
}

export interface Seen {
  row: Row;
  cell: Row["cells"][number];
}

/**
 * What a line shows at a column: of the rows that share it, the last that had
 * begun by then; of a closed nest where the item ended in it, that.
 */
export function at(rows: Row[], columns: Column[], index: number, open: Open): Seen | undefined {
  let row = rows[0];
  for (const r of rows.slice(1)) if (bornAt(r.address, columns) <= index) row = r;
  const cell = row?.cells[index];
  const column = columns[index];
  if (!row || !cell || column?.nest === undefined || open[column.name] !== undefined)
    return row && cell ? { row, cell } : undefined;
  const inner = row.cells[lastWithin(row, columns, index)];
  if (!reached(cell.fate)) return { row, cell: inner ?? cell }; // that of a loop comes at its end
  return { row, cell: inner && !goesOn(inner.fate) && inner.fate !== "joined" ? inner : cell };
}

/** The last column within a nest to which an item came; -1: none. */
export function lastWithin(row: Row, columns: Column[], index: number): number {
  const name = columns[index]?.name;
  const inside = (c: Column | undefined): boolean =>
    c?.within !== undefined && (c.within === name || inside(columns.find((x) => x.name === c.within)));
  return row.cells.findLastIndex((c, i) => i > index && reached(c.fate) && inside(columns[i]));
}

export const isTrouble = (row: Row) =>
  row.cells.some((c) => trouble.includes(c.fate) || c.fate === "went_on");
