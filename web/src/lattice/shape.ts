import type { Column, Fate, Row } from "../api/client";

export const fateWords: Record<Fate, string> = {
  passed: "passed", read: "read outside", written: "written outside", prepared: "prepared, not sent", held_back: "held back", gave_nothing: "gave nothing",
  set_aside: "set aside", stopped: "stopped the run", may_have_been_sent: "may have been sent", waiting: "waiting", off: "switched off", not_reached: "not reached",
};

export const trouble: Fate[] = ["set_aside", "stopped", "may_have_been_sent"];

/** Whether an item goes on from a cell with this fate. */
export const goesOn = (f: Fate | undefined) => f === "passed" || f === "read" || f === "written" || f === "prepared" || f === "off";

export const endFate = (row: Row): Fate => {
  for (let i = row.cells.length - 1; i >= 0; i--) {
    const f = row.cells[i]?.fate;
    if (f && f !== "not_reached") return f;
  }
  return "not_reached";
};

/**
 * The address of the item that a row shows at a column. An address is the
 * trigger item's ordinal, then STEP.ORDINAL for each step that gave several;
 * columns before such a step belong to the item that it came from.
 */
export function ownerAt(address: string, columns: Column[], column: number): string {
  const parts = address.split("-");
  const kept = [parts[0] ?? ""];
  for (const p of parts.slice(1)) {
    const step = Number(p.split(".")[0]);
    const at = columns.findIndex((c) => c.number === step && c.lists);
    if (at < 0 || at > column) break;
    kept.push(p);
  }
  return kept.join("-");
}

/** Where a row stands among the rows that share its item at a column. */
export interface Kin {
  first: boolean;
  last: boolean;
  count: number;
}

export function kin(rows: (Row | undefined)[], at: number, columns: Column[], column: number): Kin {
  const row = rows[at];
  if (!row) return { first: true, last: true, count: 1 };
  const own = ownerAt(row.address, columns, column);
  const same = (r: Row | undefined) => r !== undefined && ownerAt(r.address, columns, column) === own;
  return { first: !same(rows[at - 1]), last: !same(rows[at + 1]), count: 0 };
}
