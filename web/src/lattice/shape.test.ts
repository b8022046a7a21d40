import { describe, expect, it } from "vitest";
import type { Column, Fate, Row } from "../api/client";
import { endFate, goesOn, kin, ownerAt } from "./shape";

const column = (name: string, number: number, lists = false): Column => ({ name, number, lists, sentence: name, kind: "x", in: 0, out: 0, held_back: 0, set_aside: 0, stopped: 0, gave_nothing: 0, may_have_been_sent: 0, calls: 0, units: 0, millis: 0 });
const columns = [column("a", 1), column("pieces", 2, true), column("c", 3), column("parts", 4, true), column("e", 5)];
const row = (address: string, ...fates: Fate[]): Row => ({ row: 1, address, label: address, cells: fates.map((fate) => ({ fate, text: "" })) });

describe("an item's address at a column", () => {
  it("is that of the item it came from, before the step that gave several", () => {
    expect(ownerAt("0-2.7-4.1", columns, 0)).toBe("0");
    expect(ownerAt("0-2.7-4.1", columns, 1)).toBe("0-2.7");
    expect(ownerAt("0-2.7-4.1", columns, 2)).toBe("0-2.7");
    expect(ownerAt("0-2.7-4.1", columns, 4)).toBe("0-2.7-4.1");
  });
  it("ends where a step is no longer in the columns", () => { expect(ownerAt("0-9.1", columns, 4)).toBe("0"); });
});

describe("rows that share an item", () => {
  const rows = [row("0-2.0"), row("0-2.1"), row("0-2.2"), row("1-2.0")];
  it("begin and end together", () => {
    expect(rows.map((_, i) => kin(rows, i, columns, 0)).map((k) => [k.first, k.last])).toEqual([[true, false], [false, false], [false, true], [true, true]]);
  });
  it("stand alone after the step that made them", () => { expect(rows.every((_, i) => kin(rows, i, columns, 1).first)).toBe(true); });
  it("are not joined over rows that are not loaded", () => { expect(kin([undefined, row("0-2.1")], 1, columns, 0).first).toBe(true); });
});

describe("fates", () => {
  it("end a row at its last cell that was reached", () => {
    expect(endFate(row("0", "passed", "held_back", "not_reached"))).toBe("held_back");
    expect(endFate(row("0"))).toBe("not_reached");
  });
  it("tell which items go on", () => {
    expect(["passed", "read", "written", "prepared", "off"].every((f) => goesOn(f as Fate))).toBe(true);
    expect(["held_back", "set_aside", "stopped", "waiting", "gave_nothing", undefined].some((f) => goesOn(f as Fate))).toBe(false);
  });
});
