import { describe, expect, it } from "vitest";
import type { Fields } from "../api/client";
import { hasSecondWay, isExpression, kindOf } from "./kind";

describe("the control of a field", () => {
  const cases: [string, Fields][] = [
    ["text", { type: "string" }],
    ["text", {}],
    ["long_text", { type: "string", maxLength: 5000 }],
    ["long_text", { type: "string", hint: "lines" }],
    ["secret", { type: "string", writeOnly: true }],
    ["date", { type: "string", format: "date" }],
    ["moment", { type: "string", format: "date-time" }],
    ["duration", { type: "string", hint: "duration" }],
    ["whole", { type: "integer" }],
    ["number", { type: "number" }],
    ["yes_no", { type: "boolean" }],
    ["one_of", { type: "string", enum: ["a", "b"] }],
    ["one_of", { type: "integer", enum: [1, 2] }],
    ["several", { type: "array", items: { type: "string", enum: ["a", "b"] } }],
    ["list", { type: "array", items: { type: "string" } }],
    ["json", { type: "array", items: { type: "object" } }],
    ["json", { type: "array" }],
    ["pairs", { type: "object" }],
    ["json", { type: "object", hint: "json" }],
    ["file", { type: "object", hint: "file" }],
    ["picker", { type: "string", choices: "tabs" }],
    ["expression", { type: "string", hint: "condition" }],
    ["workflow", { type: "string", hint: "workflow" }],
    ["workspace_list", { type: "string", hint: "workspace_list" }],
    ["list_row", { type: "string", from_list: "duty" }],
    ["steps", { type: "array", hint: "steps" }],
  ];
  for (const [want, schema] of cases)
    it(`${want}: ${JSON.stringify(schema)}`, () => {
      expect(kindOf(schema)).toBe(want);
    });

  it("takes an expression as its second way where it is no text", () => {
    expect(hasSecondWay("whole")).toBe(true);
    expect(hasSecondWay("picker")).toBe(true);
    expect(hasSecondWay("text")).toBe(false);
    expect(hasSecondWay("expression")).toBe(false);
    expect(isExpression("(= item.n )")).toBe(true);
    expect(isExpression("n")).toBe(false);
    expect(isExpression(7)).toBe(false);
  });
});
