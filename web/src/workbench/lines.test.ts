import { describe, expect, it } from "vitest";
import type { Line, Rehearsal } from "../api/client";
import { below, dropped, extent, figures, freshCase, keyOf, over, pasted, shift, unused } from "./lines";

const step = (name: string, depth = 0, inBlock?: string, inside?: string): Line => ({
  name,
  type: "shape",
  kind: "shape",
  sentence: name,
  depth,
  ...(inBlock ? { in: inBlock } : {}),
  ...(inside ? { inside } : {}),
});
const way = (branch: string, name: string, type = "case", depth = 1): Line => ({
  name,
  type,
  kind: "case",
  sentence: name,
  depth,
  in: branch,
  inside: `${branch}/${name}`,
});

// one; two (branch: much: inner, again (loop: deep); few; else); last (fallback: rescue); on_failure: told
const lines: Line[] = [
  step("one"),
  step("two"),
  way("two", "much"),
  step("inner", 2, "two/much"),
  step("again", 2, "two/much", "again"),
  step("deep", 3, "again"),
  way("two", "few"),
  way("two", "else"),
  step("last"),
  way("last", "fallback", "fallback"),
  step("rescue", 2, "last/fallback"),
  {
    name: "on_failure",
    type: "on_failure",
    kind: "case",
    sentence: "if the run fails",
    inside: "/on_failure",
  },
  step("told", 1, "/on_failure"),
];

describe("lines", () => {
  it("know what stands within them", () => {
    expect([1, 2, 4, 6, 8, 11].map((i) => extent(lines, i))).toEqual([6, 3, 1, 0, 2, 1]);
    expect(lines.map(keyOf)).toContain("two/much");
  });

  it("have a place below them", () => {
    expect(below(lines, "one")).toEqual({ in: "/", to: 1 });
    expect(below(lines, "two")).toEqual({ in: "/", to: 2 });
    expect(below(lines, "two/few")).toEqual({ in: "two/few", to: 0 });
    expect(below(lines, "deep")).toEqual({ in: "again", to: 1 });
    expect(below(lines, "-")).toEqual({ in: "/", to: 0 });
  });

  it.each([
    ["one", "up", undefined],
    ["one", "down", { in: "/", to: 1 }],
    ["two", "up", { in: "/", to: 0 }],
    ["inner", "up", { in: "/", to: 1 }],
    ["again", "down", { in: "two/few", to: 0 }],
    ["deep", "up", { in: "two/much", to: 1 }],
    ["deep", "down", { in: "two/much", to: 2 }],
    ["inner", "out", { in: "/", to: 2 }],
    ["deep", "out", { in: "two/much", to: 2 }],
    ["one", "out", undefined],
    ["one", "in", undefined],
    ["last", "in", { in: "two/else", to: 0 }],
    ["rescue", "up", { in: "/", to: 2 }],
    ["rescue", "down", { in: "/", to: 3 }],
    ["last", "down", { in: "/on_failure", to: 0 }],
    ["told", "up", { in: "/", to: 3 }],
    ["told", "down", undefined],
    ["told", "out", undefined],
  ] as const)("%s goes %s", (key, to, place) => {
    expect(shift(lines, key, to)).toEqual(place && { op: "move", step: key, ...place });
  });

  it("moves cases within their branch", () => {
    expect(shift(lines, "two/few", "up")).toEqual({ op: "move", step: "two/few", to: 0 });
    expect(shift(lines, "two/few", "down")).toBeUndefined();
    expect(shift(lines, "two/else", "up")).toBeUndefined();
    expect(shift(lines, "two/few", "in")).toBeUndefined();
  });

  it("are dropped where they are held", () => {
    expect(over(lines, "one", "last", "upper")).toEqual({ in: "/", to: 0 });
    expect(over(lines, "one", "last", "lower")).toEqual({ in: "/", to: 1 });
    expect(over(lines, "two/few", "one", "upper")).toEqual({ in: "two/few", to: 0 });
    expect(over(lines, "again", "one", "lower")).toEqual({ in: "again", to: 0 });
    expect(over(lines, "two/much", "two/few", "upper")).toEqual({ in: "two", to: 0 });
    expect(over(lines, "one", "two/few", "upper")).toBeUndefined();
    expect(dropped(lines, "last", { in: "/", to: 0 })).toEqual({ op: "move", step: "last", in: "/", to: 0 });
    expect(dropped(lines, "one", { in: "/", to: 3 })).toEqual({ op: "move", step: "one", in: "/", to: 2 });
    expect(dropped(lines, "one", { in: "/", to: 1 })).toBeUndefined();
    expect(dropped(lines, "two", { in: "again", to: 0 })).toBeUndefined();
    expect(dropped(lines, "two/few", { in: "two", to: 0 })).toEqual({ op: "move", step: "two/few", to: 0 });
    expect(dropped(lines, "two/few", { in: "/", to: 0 })).toBeUndefined();
  });

  it("are pasted below a line", () => {
    expect(pasted(lines, undefined, "x")).toEqual({ op: "paste", in: "/", to: 3, value: "x" });
    expect(pasted(lines, "two/much", "x")).toEqual({
      op: "paste",
      in: "two/much",
      to: 0,
      value: "x",
      step: "two/much",
    });
    expect(pasted(lines, "-", "x")).toEqual({ op: "paste", in: "/", to: 0, value: "x" });
  });

  it("get names that are free", () => {
    expect(unused("a", ["a", "a_2"])).toBe("a_3");
    expect(freshCase(lines, "two")).toEqual({ name: "case", when: "", steps: [] });
  });

  it("say how many items took them", () => {
    const seen = {
      columns: [
        {
          name: "two",
          in: 12,
          out: 12,
          ways: [
            { name: "much", way: "much", count: 3 },
            { name: "else", way: "else", count: 9 },
          ],
        },
        { name: "last", in: 12, out: 11, fell_back: 1 },
      ],
    } as unknown as Rehearsal;
    expect([0, 1, 2, 6, 7, 8, 9, 11].map((i) => figures(lines[i] ?? step("x"), seen))).toEqual([
      "",
      "12",
      "3",
      "",
      "9",
      "12 → 11",
      "1",
      "",
    ]);
    expect(figures(lines[1] ?? step("x"), undefined)).toBe("");
  });
});
