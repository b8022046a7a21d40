import { asFields, type Fields, type Rehearsal } from "../api/client";
import { triggerOf } from "../lattice/address";

/** The item of a row as it came to a line: what the line above gave. */
export function itemBefore(r: Rehearsal | undefined, row: number, line: number): Fields | undefined {
  const cells = r?.rows[row]?.cells;
  if (!r || !cells) return undefined;
  for (let i = line - 1; i >= 0; i--) if (cells[i]?.fields !== undefined) return asFields(cells[i]?.fields);
  const n = triggerOf(r.rows[row]?.address ?? "0");
  return n !== undefined && r.items?.[n] !== undefined ? asFields(r.items[n]) : undefined;
}
