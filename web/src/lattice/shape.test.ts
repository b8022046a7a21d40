import { describe, expect, it } from "vitest";
import type { Column, Fate, Row } from "../api/client";
import { bornAt, isGroup, ownerAt, stepOf, triggerOf } from "./address";
import { endFate, fateWords, goesFurther, goesOn, kin, passesBy, rowFor } from "./shape";

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

describe("an address", () => {
  it("tells which steps made its parts, in rounds too", () => {
    expect(["0", "2.7", "2_1.4.7", "g3.1.0", "g3_1.4_2.0.1.9", "x"].map(stepOf)).toEqual([undefined, 2, 2, 3, 3, undefined]);
  });
  it("tells groups from what came from the trigger", () => {
    expect(isGroup("g3.1.0-4.1")).toBe(true);
    expect(triggerOf("g3.1.0")).toBeUndefined();
    expect(["g3.1.0", "g3_1.4.1.0-4.1", "g9.1.0", "12-2.7"].map((a) => bornAt(a, columns))).toEqual([2, 2, -1, -1]);
    expect(triggerOf("12-2.7")).toBe(12);
  });
  it("of an item in a loop belongs to the item that went round", () => { expect(ownerAt("0-2_1.4.7", columns, 0)).toBe("0"); });
});

describe("an item that took another case", () => {
  const r = row("0", "passed", "not_reached", "passed", "not_reached", "not_reached");
  it("passes the steps of the case by", () => { expect([0, 1, 2, 3].map((c) => passesBy(r, columns, c))).toEqual([false, true, false, false]); });
  it("goes on behind them", () => { expect([0, 1, 2].map((c) => goesFurther(r, c))).toEqual([true, true, false]); });
  it("does not pass by what stands above where it was made", () => { expect(passesBy(row("g2.1.0", "not_reached", "passed"), columns, 0)).toBe(false); });
  it("does not pass by what stands between a loop and where it was made within it", () => {
    const made = row("g3.1.0", "passed", "not_reached", "passed", "not_reached", "passed");
    expect([-1, 0, 1, 2, 3].map((c) => passesBy(made, columns, c))).toEqual([false, false, false, false, true]);
  });
  it("does not pass by the trigger", () => { expect(passesBy(r, columns, -1)).toBe(false); });
});

describe("rows that share an item", () => {
  const rows = [row("0-2.0"), row("0-2.1"), row("0-2.2"), row("1-2.0")];
  it("begin and end together", () => {
    expect(rows.map((_, i) => kin(rows, i, columns, 0)).map((k) => [k.first, k.last])).toEqual([[true, false], [false, false], [false, true], [true, true]]);
  });
  it("stand alone after the step that made them", () => { expect(rows.every((_, i) => kin(rows, i, columns, 1).first)).toBe(true); });
  it("are not joined over rows that are not loaded", () => { expect(kin([undefined, row("0-2.1")], 1, columns, 0).first).toBe(true); });
});

describe("the row by which a step is shown", () => {
  const rows = [row("0", "passed", "joined"), row("g2.1.0", "not_reached", "passed", "passed")];
  it("is the chosen one where it comes to the step", () => { expect(rowFor(rows, 0, 1)).toBe(0); });
  it("is the first that does where the chosen one does not", () => { expect(rowFor(rows, 0, 2)).toBe(1); });
  it("stays where none does, or before the first step", () => { expect([rowFor(rows, 0, 3), rowFor(rows, 1, -1), rowFor([], 0, 0)]).toEqual([0, 1, 0]); });
});

describe("fates", () => {
  it("end a row at its last cell that was reached", () => {
    expect(endFate(row("0", "passed", "held_back", "not_reached"))).toBe("held_back");
    expect(endFate(row("0"))).toBe("not_reached");
  });
  it("have words of their own", () => { expect(fateWords("joined")).toBe("joined a group"); });
  it("tell which items go on", () => {
    expect(["passed", "read", "written", "prepared", "off"].every((f) => goesOn(f as Fate))).toBe(true);
    expect(["held_back", "set_aside", "stopped", "waiting", "gave_nothing", "joined", undefined].some((f) => goesOn(f as Fate))).toBe(false);
  });
});
