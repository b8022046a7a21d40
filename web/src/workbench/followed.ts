import type { Cell, Rehearsal, Row, Workflow } from "../api/client";

const blank: Cell = { fate: "not_reached", text: "" };

/**
 * A rehearsal that was computed up to a line with an error, with the lines below it as they were before, but
 * nothing in their cells: so that nothing jumps while an expression is being typed.
 */
export function padded(got: Rehearsal, before: Rehearsal | undefined, workflow: Workflow): Rehearsal {
  if (got.until === undefined || before === undefined) return got;
  const known = new Set(got.columns.map((c) => c.name));
  const there = new Set(workflow.lines.map((l) => l.name));
  const more = before.columns
    .filter((c) => !known.has(c.name) && there.has(c.name))
    .map((c) => ({ ...c, in: 0, out: 0, held_back: 0, set_aside: 0, stopped: 0, gave_nothing: 0, calls: 0 }));
  const wider = (r: Row): Row => ({ ...r, cells: [...r.cells, ...more.map(() => blank)] });
  return { ...got, columns: [...got.columns, ...more], rows: got.rows.map(wider) };
}

/** Of which draft the rows are, and what of them cannot be known. */
export function standing(
  seen: Rehearsal | undefined,
  followed: boolean,
  workflow: Workflow,
  samples: number,
): { words: string; care?: string } {
  if (!seen) return { words: samples === 1 ? "1 sample" : `${String(samples)} samples` };
  if (!followed) {
    return seen.version === workflow.version
      ? { words: "Rows from the last rehearsal" }
      : { words: "Rows from the last rehearsal", care: "the draft has changed since" };
  }
  const line = workflow.lines.find((l) => l.name === seen.until)?.number;
  if (seen.until !== undefined)
    return { words: "Rows of the draft", care: `up to line ${line ?? ""}, which is not finished` };
  if (seen.unread) {
    const n = seen.unread;
    return { words: "Rows of the draft", care: `${String(n)} wait${n === 1 ? "s" : ""} for a fresh read` };
  }
  return { words: "Rows of the draft" };
}
