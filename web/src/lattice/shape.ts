import type { Column, Fate, Row } from "../api/client";
import { fates } from "../words/table";
import { bornAt, ownerAt } from "./address";

export const fateWords = (f: Fate): string => fates[f].words;

export const trouble: Fate[] = ["set_aside", "stopped", "may_have_been_sent"];

/** Whether an item goes on from a cell with this fate. */
export const goesOn = (f: Fate | undefined) => f === "passed" || f === "read" || f === "written" || f === "prepared" || f === "off";

const reached = (f: Fate | undefined) => f !== undefined && f !== "not_reached";

export const endFate = (row: Row): Fate => row.cells.findLast((c) => reached(c.fate))?.fate ?? "not_reached";

/**
 * The row by which a column is shown: the one that was chosen, or else the first
 * that comes to the column's step. Where none does, what was chosen stays.
 */
export const rowFor = (rows: Row[], chosen: number, column: number): number => {
  const comes = (r: Row | undefined) => reached(r?.cells[column]?.fate);
  return column < 0 || comes(rows[chosen]) || !rows.some(comes) ? chosen : rows.findIndex(comes);
};

/** Whether the item goes on to any column behind this one. */
export const goesFurther = (row: Row, column: number) => row.cells.slice(column + 1).some((c) => reached(c.fate));

/**
 * Whether the item passes a column without coming to its step: that stands in a
 * case which it did not take. One that was made of many passes nothing before.
 */
export const passesBy = (row: Row, columns: Column[], column: number) => {
  const from = Math.max(0, bornAt(row.address, columns));
  return column > from && !reached(row.cells[column]?.fate) && goesFurther(row, column) && row.cells.slice(from, column).some((c) => goesOn(c.fate));
};

/** Where a row stands among the rows that share its item at a column. */
export interface Kin {
  first: boolean;
  last: boolean;
}

export function kin(rows: (Row | undefined)[], at: number, columns: Column[], column: number): Kin {
  const row = rows[at];
  if (!row) return { first: true, last: true };
  const own = ownerAt(row.address, columns, column);
  const same = (r: Row | undefined) => r !== undefined && ownerAt(r.address, columns, column) === own;
  return { first: !same(rows[at - 1]), last: !same(rows[at + 1]) };
}
