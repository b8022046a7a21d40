import type { Column } from "../api/client";

/**
 * An item's address is a trigger item's ordinal or a group, then a part for each
 * step that gave several: STEP.ORDINAL, with the rounds of the loops in which it
 * stands as STEP_PASS.ROUND.ORDINAL. A group is gSTEP.PASS.ORDINAL.
 */
const partForm = /^(g?)(\d+)(?:_\d+\.\d+)*\.(?:\d+\.)?\d+$/;

/** The lasting number of the step that made a part; undefined for a trigger item. */
export const stepOf = (part: string): number | undefined => {
  const m = partForm.exec(part);
  return m ? Number(m[2]) : undefined;
};

export const isGroup = (address: string) => address.startsWith("g");

/** The ordinal of the trigger item from which an item came; undefined for one that was made of many. */
export const triggerOf = (address: string): number | undefined =>
  isGroup(address) ? undefined : Number(address.split("-")[0]);

/** The column at which a row's item begins: that of the step that made it of many, or -1 for the trigger. */
export const bornAt = (address: string, columns: Column[]): number =>
  isGroup(address) ? columns.findIndex((c) => c.number === stepOf(address.split("-")[0] ?? "")) : -1;

/**
 * The address of the item that a row shows at a column: columns before a step
 * that gave several belong to the item that it came from.
 */
export function ownerAt(address: string, columns: Column[], column: number): string {
  const parts = address.split("-");
  const kept = [parts[0] ?? ""];
  for (const p of parts.slice(1)) {
    const at = columns.findIndex((c) => c.number === stepOf(p));
    if (at < 0 || at > column) break;
    kept.push(p);
  }
  return kept.join("-");
}

/**
 * Which of the items that came of a row's item at a column the row shows,
 * as "51 of 2,000", or "the 51st on" where it is not known how many there are; empty
 * where the row shows that item itself.
 */
export function whichOf(address: string, columns: Column[], column: number): string {
  const owner = ownerAt(address, columns, column);
  const part = address.slice(owner.length + 1).split("-")[0] ?? "";
  const step = stepOf(part);
  if (address === owner || step === undefined) return "";
  const n = Number(part.split(".").at(-1)) + 1;
  const spread = columns.find((c) => c.number === step);
  return spread?.in === 1
    ? `${n.toLocaleString("en")} of ${spread.out.toLocaleString("en")}`
    : `from the ${n.toLocaleString("en")}. on`;
}
