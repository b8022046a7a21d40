import { asFields, type Fields, type Rehearsal } from "../../api/client";
import { isGroup, triggerOf } from "../../lattice/address";

/** What became of a sample in the rows at hand, as it is noted when it should always become so. */
export function outcomeOf(seen: Rehearsal | undefined, sample: number): Fields {
  const row = seen?.rows.find((r) => !isGroup(r.address) && triggerOf(r.address) === sample);
  const reached = row?.cells.filter((c) => c.fate !== "not_reached") ?? [];
  const last = reached.at(-1);
  if (!last) return { fate: "passed" };
  const fields = reached.findLast((c) => c.fields !== undefined)?.fields;
  return fields === undefined ? { fate: last.fate } : { fate: last.fate, fields: asFields(fields) };
}
