import type { Cell, Column, Row } from "../api/client";
import { isGroup, triggerOf } from "./address";

/** The name by which the service knows the trigger among the steps. */
export const START = "-";

const nothing = {
  in: 0,
  out: 0,
  held_back: 0,
  set_aside: 0,
  stopped: 0,
  gave_nothing: 0,
  may_have_been_sent: 0,
  calls: 0,
  units: 0,
  millis: 0,
};

/** The columns with one ahead of them for what started the run. */
export const startColumns = (columns: Column[], title: string, items: number): Column[] => [
  { name: START, sentence: title, kind: "trigger", number: 0, ...nothing, in: items, out: items },
  ...columns,
];

/** A row with what it was when it arrived; one that was made of many did not come from there. */
export function startRow(row: Row): Row {
  const first: Cell = isGroup(row.address)
    ? { fate: "not_reached", text: "" }
    : {
        fate: "passed",
        text: row.start ?? (row.label || `item ${String((triggerOf(row.address) ?? 0) + 1)}`),
      };
  return { ...row, cells: [first, ...row.cells] };
}
