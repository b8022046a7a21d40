import { describe, expect, it } from "vitest";
import type { Column, Fate, Row } from "../api/client";
import { bornAt, isGroup, ownerAt, stepOf, triggerOf, whichOf } from "./address";
import { fateWords, goesOn, rowFor } from "./shape";

const column = (name: string, number: number, lists = false): Column => ({
  name,
  number,
  lists,
  sentence: name,
  kind: "x",
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
});
const columns = [
  column("a", 1),
  column("pieces", 2, true),
  column("c", 3),
  column("parts", 4, true),
  column("e", 5),
];
const row = (address: string, ...fates: Fate[]): Row => ({
  row: 1,
  address,
  label: address,
  cells: fates.map((fate) => ({ fate, text: "" })),
});

describe("an item's address at a column", () => {
  it("is that of the item it came from, before the step that gave several", () => {
    expect(ownerAt("0-2.7-4.1", columns, 0)).toBe("0");
    expect(ownerAt("0-2.7-4.1", columns, 1)).toBe("0-2.7");
    expect(ownerAt("0-2.7-4.1", columns, 2)).toBe("0-2.7");
    expect(ownerAt("0-2.7-4.1", columns, 4)).toBe("0-2.7-4.1");
  });
  it("ends where a step is no longer in the columns", () => {
    expect(ownerAt("0-9.1", columns, 4)).toBe("0");
  });
});

describe("an address", () => {
  it("tells which steps made its parts, in rounds too", () => {
    expect(["0", "2.7", "2_1.4.7", "g3.1.0", "g3_1.4_2.0.1.9", "x"].map(stepOf)).toEqual([
      undefined,
      2,
      2,
      3,
      3,
      undefined,
    ]);
  });
  it("tells groups from what came from the trigger", () => {
    expect(isGroup("g3.1.0-4.1")).toBe(true);
    expect(triggerOf("g3.1.0")).toBeUndefined();
    expect(["g3.1.0", "g3_1.4.1.0-4.1", "g9.1.0", "12-2.7"].map((a) => bornAt(a, columns))).toEqual([
      2, 2, -1, -1,
    ]);
    expect(triggerOf("12-2.7")).toBe(12);
  });
  it("of an item in a loop belongs to the item that went round", () => {
    expect(ownerAt("0-2_1.4.7", columns, 0)).toBe("0");
  });
});

describe("the row by which a step is shown", () => {
  const rows = [row("0", "passed", "joined"), row("g2.1.0", "not_reached", "passed", "passed")];
  it("is the chosen one where it comes to the step", () => {
    expect(rowFor(rows, 0, 1)).toBe(0);
  });
  it("is the first that does where the chosen one does not", () => {
    expect(rowFor(rows, 0, 2)).toBe(1);
  });
  it("stays where none does, or before the first step", () => {
    expect([rowFor(rows, 0, 3), rowFor(rows, 1, -1), rowFor([], 0, 0)]).toEqual([0, 1, 0]);
  });
});

describe("fates", () => {
  it("have words of their own", () => {
    expect(fateWords("joined")).toBe("joined a group");
  });
  it("tell which items go on", () => {
    expect(
      ["passed", "read", "written", "prepared", "off", "went_on", "fell_back"].every((f) =>
        goesOn(f as Fate),
      ),
    ).toBe(true);
    expect(
      ["held_back", "set_aside", "stopped", "waiting", "gave_nothing", "joined", "ended_run", undefined].some(
        (f) => goesOn(f as Fate),
      ),
    ).toBe(false);
  });
});

describe("an ancestor that stands above", () => {
  const columns = [
    column("start", 0),
    { ...column("tiles", 1, true), in: 1, out: 2000 },
    { ...column("parts", 2, true), in: 2000, out: 4000 },
  ];
  it("says which of its items is seen", () => {
    expect(whichOf("0-1.50", columns, 0)).toBe("51 of 2,000");
    expect(whichOf("0-1.1999-2.1", columns, 0)).toBe("2,000 of 2,000");
    expect(whichOf("0-1.7-2_1.3.1", columns, 1)).toBe("from the 2. on");
    expect(whichOf("0-1.50", columns, 1)).toBe("");
    expect(whichOf("", columns, 0)).toBe("");
  });
});
