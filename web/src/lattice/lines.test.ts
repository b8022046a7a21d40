import { describe, expect, it } from "vitest";
import type { Column, Fate, Row } from "../api/client";
import { at, headOnly, lastWithin, placed, seen, visible, without, LEAST, NUMBERS, THIN } from "./columns";
import { bandOf, linesOf, sheetsOf } from "./lines";
import { drawn, HEIGHT, MARK, type Drawing } from "./stems";
import { startColumns, startRow } from "./start";
import { ranges, withinOf } from "./source";

const none = {
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
const column = (name: string, number: number, more: Partial<Column> = {}): Column => ({
  name,
  number,
  sentence: name,
  kind: "shape",
  ...none,
  ...more,
});
const row = (address: string, fates: Fate[], more: Partial<Row> = {}): Row => ({
  row: 1,
  address,
  label: address,
  cells: fates.map((fate) => ({ fate, text: fate })),
  ...more,
});
const P: Fate = "passed";
const N: Fate = "not_reached";
const J: Fate = "joined";

describe("lines of a shape", () => {
  it("fold neighbours that are alike, and unfold those that were asked for", () => {
    expect(linesOf([3, -1, 2], new Set())).toEqual([
      { at: 0, count: 3, trouble: false },
      { at: 3, count: 1, trouble: true },
      { at: 4, count: 2, trouble: false },
    ]);
    expect(linesOf([3, -2], new Set([3])).map((l) => [l.at, l.count, l.trouble])).toEqual([
      [0, 3, false],
      [3, 1, true],
      [4, 1, true],
    ]);
    expect(linesOf([], new Set())).toEqual([]);
  });
});

describe("a small lattice", () => {
  const columns = [column("read", 1), column("put", 2), column("send", 3)];
  const members = [
    row("0", [P, J, N], { into: "g2.1.0" }),
    row("1", [P, J, N], { into: "g2.1.0" }),
    row("2", [P, J, N], { into: "g2.1.0" }),
  ];
  it("draws groups of a few on the middle one of the lines that went into them", () => {
    const sheets = sheetsOf([...members, row("g2.1.0", [N, P, P])], columns);
    expect(sheets.map((s) => [s.band, s.lines.length])).toEqual([["-", 3]]);
    expect(sheets[0]?.lines.map((l) => l.rows?.map((r) => r.address))).toEqual([
      ["0"],
      ["1", "g2.1.0"],
      ["2"],
    ]);
  });
  it("gives larger joins a sheet of their own, with numbers of its own", () => {
    const many = Array.from({ length: 13 }, (_, i) => row(String(i), [P, J, N], { into: "g2.1.0" }));
    const sheets = sheetsOf([...many, row("g2.1.0", [N, P, P], { row: 14 })], columns);
    expect(sheets.map((s) => [s.band, s.lines.length])).toEqual([
      ["-", 13],
      ["put", 1],
    ]);
    expect(sheets[1]?.lines[0]?.rows?.[0]?.row).toBe(1);
  });
  it("gives a sheet of their own to groups whose members stand apart, and to one of nothing", () => {
    const apart = [members[0], row("9", [P, "held_back", N]), members[1]].filter((r) => r !== undefined);
    expect(sheetsOf([...apart, row("g2.1.0", [N, P, P])], columns).map((s) => s.band)).toEqual(["-", "put"]);
    expect(sheetsOf([row("g2.1.0", [N, P, P])], columns).map((s) => s.band)).toEqual(["put"]);
  });
  it("puts what is done when the run fails last", () => {
    const all = [...columns, column("told", 4, { on_failure: true })];
    expect(
      sheetsOf([row("g0.1.0", [N, N, N, P]), row("0", [P, P, "stopped", N])], all).map((s) => s.band),
    ).toEqual(["-", "on_failure"]);
    expect(bandOf(row("g4.1.0", []), all)).toBe("on_failure");
  });
  it("has no sheet without rows", () => {
    expect(sheetsOf([], columns)).toEqual([]);
  });
});

describe("columns", () => {
  const columns = [
    column("read", 1, { kind: "read" }),
    column("way", 2, { nest: "branch" }),
    column("a", 3, { within: "way", case: "urgent" }),
    column("round", 4, { within: "way", case: "urgent", nest: "loop" }),
    column("in", 5, { within: "round" }),
    column("b", 6, { within: "way", case: "else" }),
    column("send", 7, { nest: "fallback", kind: "write" }),
    column("other", 8, { within: "send", case: "fallback" }),
  ];
  const names = (open: Record<string, string>) =>
    seen(columns, open, 0, 99)
      .map((x) => x.column.name)
      .join(" ");
  it("within closed nests are not seen; an open nest gives way to its columns", () => {
    expect(names({})).toBe("read way send");
    expect(names({ way: "urgent" })).toBe("read a round send");
    expect(names({ way: "else" })).toBe("read b send");
    expect(names({ way: "urgent", round: "3" })).toBe("read a in send");
    expect(names({ round: "3" })).toBe("read way send");
    expect(names({ send: "fallback" })).toBe("read way send other");
    expect(headOnly(columns[1] as Column, columns, { way: "nothing in it" })).toBe(false);
    expect(visible(column("x", 9, { within: "gone" }), columns, {})).toBe(false);
  });
  it("are asked for by the nests that are open, from the outermost in", () => {
    expect(withinOf({ way: "urgent", round: "3", send: "fallback" }, columns)).toEqual([
      "way/urgent",
      "round/3",
    ]);
    expect(withinOf({ round: "3" }, columns)).toEqual([]);
    expect(without({ a: "1", b: "2" }, "a")).toEqual({ b: "2" });
  });
  it("fold to their marks where there is no room: never the first, what reads or writes, the chosen one and its neighbours, or trouble", () => {
    const list = [
      column("one", 1),
      column("two", 2),
      column("three", 3),
      column("four", 4, { set_aside: 1 }),
      column("five", 5),
      column("six", 6, { kind: "write" }),
    ];
    const of = (room: number, chosen?: string, folds: [string, boolean][] = []) =>
      placed(
        list.map((c, index) => ({ column: c, index })),
        list,
        room,
        chosen,
        new Map(folds),
      )
        .map((s) => (s.thin ? "-" : "+"))
        .join("");
    expect(of(2000)).toBe("++++++");
    expect(of(NUMBERS + 5 * LEAST + THIN)).toBe("++++-+");
    expect(of(100)).toBe("+--+-+");
    expect(of(100, "two")).toBe("++++-+");
    expect(
      of(100, undefined, [
        ["two", false],
        ["one", true],
      ]),
    ).toBe("-+-+-+");
    expect(placed([], [], 100, undefined, new Map())).toEqual([]);
  });
  it("show of a closed nest where the item ended in it", () => {
    const r = row("0", ["read", P, "set_aside", N, N, N, N, N]);
    expect(at([r], columns, 1, {})?.cell.fate).toBe("set_aside");
    expect(at([r], columns, 1, { way: "urgent" })?.cell.fate).toBe(P);
    expect(lastWithin(r, columns, 1)).toBe(2);
    expect(at([row("0", ["read", P, P, N, N, N, P, N])], columns, 1, {})?.cell.fate).toBe(P);
    expect(at([], columns, 1, {})).toBeUndefined();
  });
});

describe("stems", () => {
  const columns = [column("read", 1), column("spread", 2), column("end", 3)];
  const shown = placed(
    columns.map((c, index) => ({ column: c, index })),
    columns,
    900,
    undefined,
    new Map(),
  );
  const drawing = (rows: Row[]): Drawing => ({
    lines: rows.map((r, i) => ({ at: i, count: 1, trouble: false, rows: [r] })),
    rowsOf: (i) => (rows[i] ? [rows[i]] : undefined),
    columns,
    shown,
    open: {},
  });
  const y = (line: number) => line * HEIGHT + 25;
  it("run straight along a row, to where it ended", () => {
    const { paths, spots } = drawn(drawing([row("0", [P, "held_back", N])]), 0, 0);
    expect(paths.map((p) => p.d)).toEqual([
      `M${String((shown[0]?.left ?? 0) + MARK)} ${String(y(0))}H${String(Math.round(((shown[1]?.left ?? 0) + MARK) * 10) / 10)}`,
    ]);
    expect(spots.map((s) => [s.line, s.column, s.fate])).toEqual([
      [0, 0, P],
      [0, 1, "held_back"],
    ]);
  });
  it("run beneath the text where there is only one column, of what went on", () => {
    const one = shown.slice(0, 1);
    const of = (fate: Fate) =>
      drawn({ ...drawing([row("0", [fate])]), shown: one }, 0, 0).paths.map((p) => p.d);
    const { left = 0, width = 0 } = one[0] ?? {};
    expect(of(P)).toEqual([`M${String(left + MARK)} ${String(y(0))}H${String(left + width - MARK)}`]);
    expect(of("held_back")).toEqual([]);
  });
  it("divide from the middle one of the lines of an item", () => {
    const { spots, paths } = drawn(drawing(["0-2.0", "0-2.1", "0-2.2"].map((a) => row(a, [P, P, P]))), 0, 2);
    expect(spots.filter((s) => s.column === 0).map((s) => s.line)).toEqual([1]);
    expect(paths.filter((p) => p.column === 1)).toHaveLength(3);
    expect(
      paths
        .filter((p) => p.column === 1)
        .every((p) => p.d.startsWith(`M${String((shown[0]?.left ?? 0) + MARK)} ${String(y(1))}`)),
    ).toBe(true);
  });
  it("of many lines stand on the first that is in sight", () => {
    const rows = Array.from({ length: 60 }, (_, i) => row(`0-2.${String(i)}`, [P, P, P]));
    expect(
      drawn(drawing(rows), 0, 20)
        .spots.filter((s) => s.column === 0)
        .map((s) => s.line),
    ).toEqual([0]);
    const later = drawn(drawing(rows), 30, 50);
    expect(later.spots.filter((s) => s.column === 0).map((s) => [s.line, s.passed])).toEqual([[30, 1]]);
    expect(
      later.paths.filter((p) => p.column === 1 && p.d.includes(` ${String(y(30))}H`)).length,
    ).toBeGreaterThan(20);
  });
  it("join on the line of their group", () => {
    const list = [column("read", 1), column("put", 2), column("send", 3)];
    const lines =
      sheetsOf(
        [
          row("0", [P, J, N], { into: "g2.1.0" }),
          row("1", [P, J, N], { into: "g2.1.0" }),
          row("g2.1.0", [N, P, P]),
        ],
        list,
      )[0]?.lines ?? [];
    const { spots, paths } = drawn(
      { lines, rowsOf: (i) => lines[i]?.rows, columns: list, shown, open: {} },
      0,
      1,
    );
    expect(spots.map((s) => [s.line, s.column, s.fate])).toEqual([
      [0, 0, P],
      [0, 1, P],
      [0, 2, P],
      [1, 0, P],
    ]);
    expect(paths.filter((p) => p.column === 1)).toHaveLength(2);
  });
  it("say by their colour that an error was gone on from", () => {
    expect(drawn(drawing([row("0", [P, "fell_back", P])]), 0, 0).paths.map((p) => p.tone)).toEqual([
      "leaf",
      "amber",
    ]);
  });
  it("run past the steps of a case that was not taken, and end with the item", () => {
    const { paths } = drawn(drawing([row("0", [P, N, P]), row("1", [P, N, N])]), 0, 1);
    expect(
      paths.map((p) => [
        p.column,
        p.d.startsWith(`M${String((shown[0]?.left ?? 0) + MARK)} ${String(y(0))}H`),
      ]),
    ).toEqual([[2, true]]);
  });
  it("do not reach back to before their item was made", () => {
    const list = [column("loop", 9, { nest: "loop" }), column("put", 3), column("after", 4)];
    const made = row("g3.1.0", [P, P, P]); // the loop's own cell stands ahead of what was made within it
    expect(drawn({ ...drawing([made]), columns: list }, 0, 0).paths.map((p) => p.column)).toEqual([2]);
  });
  it("of rows that are not loaded do not tie the others together", () => {
    const d = drawing([row("0-2.0", [P, P, P]), row("0-2.1", [P, P, P])]);
    expect(
      drawn({ ...d, rowsOf: (i) => (i === 0 ? undefined : d.rowsOf(i)) }, 0, 1)
        .spots.filter((s) => s.column === 0)
        .map((s) => s.line),
    ).toEqual([1]);
  });
  it("wait for rows that are not loaded", () => {
    expect(drawn({ ...drawing([]), lines: [{ at: 0, count: 1, trouble: false }] }, 0, 0)).toEqual({
      paths: [],
      spots: [],
    });
  });
});

describe("what started the run", () => {
  it("is a column ahead of the steps, but for what was made of many", () => {
    expect(startColumns([column("a", 1)], "Call", 3)[0]).toMatchObject({
      name: "-",
      sentence: "Call",
      in: 3,
    });
    expect(startRow(row("2", [P])).cells[0]).toEqual({ fate: "passed", text: "2" });
    expect(startRow(row("2-4.1", [P], { start: "Quern" })).cells[0]?.text).toBe("Quern");
    expect(startRow(row("2-4.1", [P], { label: "" })).cells[0]?.text).toBe("item 3");
    expect(startRow(row("g4.1.0", [P])).cells[0]?.fate).toBe("not_reached");
  });
});

describe("windows", () => {
  it("are few, and bounded", () => {
    expect(ranges([5, 3, 4, 900, 901])).toEqual([
      [
        [3, 3],
        [900, 2],
      ],
    ]);
    expect(ranges([])).toEqual([]);
    const scattered = ranges(Array.from({ length: 120 }, (_, i) => i * 50));
    expect(scattered.map((p) => p.length)).toEqual([50, 50, 20]);
    expect(
      ranges(Array.from({ length: 1000 }, (_, i) => i)).every((p) => p.reduce((n, x) => n + x[1], 0) <= 400),
    ).toBe(true);
  });
});
