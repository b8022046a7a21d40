import { describe, expect, it } from "vitest";
import { asText, fromText } from "./EditItem";

describe("a value as one types it", () => {
  it("is text as it is, and other kinds as JSON", () => {
    expect([asText("a"), asText(7), asText(false), asText(null), asText({ a: 1 })]).toEqual([
      "a",
      "7",
      "false",
      "",
      '{\n  "a": 1\n}',
    ]);
  });
  it("keeps the kind that it had, or cannot be that", () => {
    expect([
      fromText("7", "x"),
      fromText("7", 1),
      fromText("7 kg", 1),
      fromText("", 1),
      fromText("true", false),
      fromText("yes", false),
    ]).toEqual(["7", 7, undefined, undefined, true, undefined]);
    expect([
      asText(9223372036854775807n),
      fromText("9223372036854775807", 1n),
      fromText("9223372036854775806", 1),
      fromText("[9223372036854775807]", []),
    ]).toEqual(["9223372036854775807", 9223372036854775807n, 9223372036854775806n, [9223372036854775807n]]);
    expect([fromText("[1]", []), fromText("[1", []), fromText("", null), fromText("now", null)]).toEqual([
      [1],
      undefined,
      null,
      "now",
    ]);
  });
});
