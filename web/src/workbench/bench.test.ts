import { describe, expect, it } from "vitest";
import type { Column, Line, Rehearsal, Row, Workflow } from "../api/client";
import { atFirst, benchState } from "./benchState";
import { padded, standing } from "./followed";

const column = (name: string): Column =>
  ({ name, sentence: name, kind: "filter", in: 3, out: 2, held_back: 1, calls: 0 }) as Column;
const rehearsal = (names: string[], more: Partial<Rehearsal> = {}): Rehearsal =>
  ({
    version: 4,
    made: "2026-11-20T10:00:00Z",
    columns: names.map(column),
    rows: [{ row: 1, address: "0", cells: names.map(() => ({ fate: "passed", text: "" })) } as Row],
    prepared: 0,
    ...more,
  }) as Rehearsal;
const workflow = (names: string[], version = 4) =>
  ({
    name: "loads",
    version,
    lines: names.map((name, i) => ({ name, number: String(i + 1) }) as Line),
  }) as Workflow;

describe("what is open on the bench", () => {
  it("keeps the chosen row when another line is opened", () => {
    const chosen = benchState(atFirst, { do: "choose", spot: { row: 7, column: 1 } });
    const opened = benchState(chosen, { do: "open", key: "load", column: 3 });
    expect(opened).toMatchObject({ opened: "load", spot: { row: 7, column: 3 } });
    expect(benchState(opened, { do: "open", key: "new", column: -1 }).spot).toEqual({ row: 7, column: 0 });
    expect(benchState(opened, { do: "open", key: undefined, column: -1 }).spot).toEqual({
      row: 7,
      column: 3,
    });
    expect(benchState(atFirst, { do: "open", key: "load", column: 3 }).spot).toBeUndefined();
  });
  it("forgets the row with the rows, counts what was turned back, and turns to the text", () => {
    const chosen = benchState(atFirst, { do: "choose", spot: { row: 7, column: 1 } });
    expect(benchState(chosen, { do: "rehearsed" }).spot).toBeUndefined();
    expect(benchState(chosen, { do: "turned" }).turned).toBe(1);
    expect(benchState(benchState(chosen, { do: "text" }), { do: "text" }).asText).toBe(false);
  });
});

describe("rows that follow", () => {
  const before = rehearsal(["read", "keep", "load", "gone"]);
  it("keep the columns below a line that is not finished, with nothing in them", () => {
    const got = padded(rehearsal(["read"], { until: "keep" }), before, workflow(["read", "keep", "load"]));
    expect(got.columns.map((c) => c.name)).toEqual(["read", "keep", "load"]);
    expect(got.columns.map((c) => c.in)).toEqual([3, 0, 0]);
    expect(got.rows[0]?.cells.map((c) => c.fate)).toEqual(["passed", "not_reached", "not_reached"]);
  });
  it("are as they came where nothing is wrong, or nothing was there before", () => {
    const got = rehearsal(["read"], { until: "keep" });
    expect(padded(got, undefined, workflow(["read", "keep"]))).toBe(got);
    const whole = rehearsal(["read"]);
    expect(padded(whole, before, workflow(["read"]))).toBe(whole);
  });
  it("say of which draft they are, and what cannot be known", () => {
    const w = workflow(["read", "keep"]);
    expect(standing(undefined, false, w, 1).words).toBe("1 sample");
    expect(standing(before, false, w, 1)).toEqual({ words: "Rows from the last rehearsal" });
    expect(standing(before, false, workflow([], 5), 1).care).toBe("the draft has changed since");
    expect(standing(before, true, w, 1).words).toBe("Rows of the draft");
    expect(standing(rehearsal([], { unread: 1 }), true, w, 1).care).toBe("1 waits for a fresh read");
    expect(standing(rehearsal([], { unread: 4 }), true, w, 1).care).toBe("4 wait for a fresh read");
    expect(standing(rehearsal([], { until: "keep", unread: 4 }), true, w, 1).care).toBe(
      "up to line 2, which is not finished",
    );
  });
});
