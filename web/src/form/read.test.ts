import { describe, expect, it } from "vitest";
import { exampleOf, readAsJson, readDuration, readList, readNumber } from "./read";

describe("a number that was typed", () => {
  const whole: [string, unknown][] = [
    ["7", 7],
    [" 7 ", 7],
    ["+7", 7],
    ["-7", -7],
    ["007", 7],
    ["7.0", 7],
    ["7.", 7],
    ["0", 0],
    ["-0", -0],
  ];
  for (const [text, want] of whole)
    it(`whole: “${text}”`, () => {
      expect(readNumber(text, true)).toEqual({ value: want });
    });
  const any: [string, unknown][] = [
    ["7.5", 7.5],
    [".5", 0.5],
    ["-.5", -0.5],
    ["12.", 12],
    ["0012.50", 12.5],
  ];
  for (const [text, want] of any)
    it(`any: “${text}”`, () => {
      expect(readNumber(text, false)).toEqual({ value: want });
    });
  it("keeps digits that the machine's numbers have no room for", () => {
    expect(readNumber("9223372036854775807", true)).toEqual({ value: 9223372036854775807n });
  });
  it("is nothing where nothing was typed", () => {
    expect(readNumber("  ", true)).toEqual({ value: undefined });
  });
  it("says what is wrong", () => {
    expect(readNumber("7.5", true)).toEqual({ wrong: "7.5 is not a whole number" });
    expect(readNumber("12,5", false)).toEqual({ wrong: "Write it with a point: 12.5" });
    expect(readNumber("seven", true)).toEqual({ wrong: "“seven” is not a whole number" });
    expect(readNumber("1e3", false)).toEqual({ wrong: "“1e3” is not a number" });
    expect(readNumber("-", false)).toEqual({ wrong: "“-” is not a number" });
  });
});

describe("other things that were typed", () => {
  it("lengths of time", () => {
    expect(readDuration("90s")).toEqual({ value: "90s" });
    expect(readDuration("1d 12h")).toEqual({ value: "1d12h" });
    expect(readDuration("")).toEqual({ value: undefined });
    expect(readDuration("ten minutes")).toEqual({ wrong: "Write it as 90s, 5m, 2h, 3d or 1d12h" });
    expect(readDuration("10")).toHaveProperty("wrong");
  });
  it("lists", () => {
    expect(readList("a, b,,c\nd ")).toEqual(["a", "b", "c", "d"]);
    expect(readList(" ")).toEqual([]);
  });
  it("JSON", () => {
    expect(readAsJson('{"a": 1}')).toEqual({ value: { a: 1 } });
    expect(readAsJson(" ")).toEqual({ value: undefined });
    expect(readAsJson("{")).toHaveProperty("wrong");
  });
  it("examples", () => {
    expect(exampleOf({ examples: ["x"] }, String)).toBe("x");
    expect(exampleOf({ examples: [7] }, (v) => `n${String(v)}`)).toBe("n7");
    expect(exampleOf({ examples: [] }, String)).toBe("");
    expect(exampleOf({}, String)).toBe("");
  });
});
