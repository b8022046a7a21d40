import type { Fate, Row } from "../api/client";
import { fates } from "../words/table";

export const fateWords = (f: Fate): string => fates[f].words;

export const trouble: Fate[] = ["set_aside", "stopped", "may_have_been_sent"];

/** Whether an item goes on from a cell with this fate. */
export const goesOn = (f: Fate | undefined) =>
  f === "passed" ||
  f === "read" ||
  f === "written" ||
  f === "prepared" ||
  f === "off" ||
  f === "went_on" ||
  f === "fell_back";

export const reached = (f: Fate | undefined) => f !== undefined && f !== "not_reached";

/**
 * The row by which a column is shown: the one that was chosen, or else the first
 * that comes to the column's step. Where none does, what was chosen stays.
 */
export const rowFor = (rows: Row[], chosen: number, column: number): number => {
  const comes = (r: Row | undefined) => reached(r?.cells[column]?.fate);
  return column < 0 || comes(rows[chosen]) || !rows.some(comes) ? chosen : rows.findIndex(comes);
};
