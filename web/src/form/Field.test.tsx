// @vitest-environment jsdom
import { cleanup, render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { useState } from "react";
import { afterEach, describe, expect, it, vi } from "vitest";
import type { Fields, Json, Schemas } from "../api/client";
import { Field } from "./Field";

vi.mock("./ExpressionField", () => ({
  ExpressionField: ({
    label,
    value,
    onChange,
  }: {
    label: string;
    value: string;
    onChange: (v: string) => void;
  }) => (
    <textarea
      aria-label={label}
      value={value}
      onChange={(e) => {
        onChange(e.target.value);
      }}
    />
  ),
}));

afterEach(cleanup);

/** A field of a line, and what it holds. */
function held(schema: Fields, first?: Json, problems: Schemas["Finding"][] = [], steps = true) {
  let now: Json | undefined = first;
  function Held() {
    const [value, setValue] = useState(first);
    return (
      <Field
        id="f"
        property={{ name: "f", required: true, schema: { title: "Days", ...schema } }}
        value={value}
        around={{
          connection: undefined,
          values: {},
          ...(steps ? { shared: { item: {}, trigger: {}, row: undefined, steps: [] } } : {}),
        }}
        expressions={steps}
        problems={problems}
        onSet={(v) => {
          now = v;
          setValue(v);
        }}
      />
    );
  }
  render(<Held />);
  return () => now;
}

describe("a field", () => {
  it("keeps a number that is typed as a number", async () => {
    const value = held({ type: "integer" });
    await userEvent.type(screen.getByLabelText("Days"), "14");
    expect(value()).toBe(14);
  });

  it("lets a number be typed digit by digit, with its point", async () => {
    const value = held({ type: "number" });
    const input = screen.getByLabelText<HTMLInputElement>("Days");
    await userEvent.type(input, "12.50");
    expect(input.value).toBe("12.50");
    await userEvent.tab();
    expect(value()).toBe(12.5);
    expect(input.value).toBe("12.5");
  });

  it("says what is wrong once it was left, keeps what was typed and what was there", async () => {
    const value = held({ type: "integer" }, 7);
    const input = screen.getByLabelText<HTMLInputElement>("Days");
    await userEvent.clear(input);
    await userEvent.type(input, "1 week");
    expect(screen.queryByRole("alert")).toBeNull();
    await userEvent.tab();
    expect(screen.getByRole("alert").textContent).toBe("“1 week” is not a whole number");
    expect(input.getAttribute("aria-invalid")).toBe("true");
    expect(input.value).toBe("1 week");
    expect(value()).toBe(1);
  });

  it("takes an expression in place of a number, and a number again", async () => {
    const value = held({ type: "integer" });
    await userEvent.click(screen.getByRole("button", { name: "Make Days by an expression" }));
    await userEvent.type(screen.getByLabelText("Days"), "(= item.days )");
    expect(value()).toBe("(= item.days )");
    await userEvent.click(screen.getByRole("button", { name: "Fill in Days by hand" }));
    await userEvent.type(screen.getByLabelText("Days"), "3");
    expect(value()).toBe(3);
  });

  it("opens as an expression where one stands in it", () => {
    held({ type: "boolean" }, "(= item.paid )");
    expect(screen.getByLabelText<HTMLTextAreaElement>("Days").value).toBe("(= item.paid )");
  });

  it("offers yes, no, and neither", async () => {
    const value = held({ type: "boolean" });
    await userEvent.click(screen.getByLabelText("no"));
    expect(value()).toBe(false);
    await userEvent.click(screen.getByLabelText("yes"));
    expect(value()).toBe(true);
    await userEvent.click(screen.getByLabelText("not said"));
    expect(value()).toBeUndefined();
  });

  it("offers one of some values, the usual one first", async () => {
    const value = held({
      type: "string",
      enum: ["slow", "fast"],
      default: "slow",
      words: { fast: "in a night" },
    });
    await userEvent.selectOptions(screen.getByLabelText("Days"), "fast, in a night");
    expect(value()).toBe("fast");
    await userEvent.selectOptions(screen.getByLabelText("Days"), "slow");
    expect(value()).toBeUndefined();
  });

  it("offers several of some values, kept in their order", async () => {
    const value = held({ type: "array", items: { type: "string", enum: ["a", "b", "c"] } });
    await userEvent.click(screen.getByLabelText("c"));
    await userEvent.click(screen.getByLabelText("a"));
    expect(value()).toEqual(["a", "c"]);
    await userEvent.click(screen.getByLabelText("a"));
    await userEvent.click(screen.getByLabelText("c"));
    expect(value()).toBeUndefined();
  });

  it("takes lists, lengths of time, days and JSON", async () => {
    const list = held({ type: "array", items: { type: "string" } });
    await userEvent.type(screen.getByLabelText("Days"), "ash, oak");
    expect(list()).toEqual(["ash", "oak"]);
    cleanup();
    const length = held({ type: "string", hint: "duration" });
    await userEvent.type(screen.getByLabelText("Days"), "90m");
    expect(length()).toBe("90m");
    cleanup();
    const day = held({ type: "string", format: "date" });
    await userEvent.type(screen.getByLabelText("Days"), "2026-11-27");
    expect(day()).toBe("2026-11-27");
    cleanup();
    const json = held({ type: "array", items: { type: "object" } });
    await userEvent.click(screen.getByLabelText("Days"));
    await userEvent.paste('[{"cone": 9}]');
    expect(json()).toEqual([{ cone: 9 }]);
  });

  it("is text that takes expressions in a line, and plain text elsewhere", async () => {
    const inLine = held({ type: "string" });
    expect(screen.getByLabelText("Days").tagName).toBe("TEXTAREA");
    await userEvent.type(screen.getByLabelText("Days"), "a");
    expect(inLine()).toBe("a");
    cleanup();
    const elsewhere = held({ type: "string" }, undefined, [], false);
    expect(screen.getByLabelText("Days").tagName).toBe("INPUT");
    await userEvent.type(screen.getByLabelText("Days"), "b");
    expect(elsewhere()).toBe("b");
    await userEvent.clear(screen.getByLabelText("Days"));
    expect(elsewhere()).toBeUndefined();
  });

  it("is calm about what nobody has filled in, and says what is wrong", () => {
    const at = { path: "steps[0].input.f", line: 1, column: 1 };
    held({ type: "string" }, undefined, [
      { ...at, severity: "error", message: "Days of “a” is to be filled in.", gap: true },
      { ...at, severity: "error", message: "Days is 99; the most is 14", cure: "Say less." },
      { ...at, severity: "warning", message: "Nobody reads it." },
    ]);
    expect(screen.getByText("to fill in").className).not.toContain("rust");
    expect(screen.getByText("Days is 99; the most is 14 Say less.").className).toContain("rust");
    expect(screen.getByText("Nobody reads it.").className).toContain("amber");
  });
});
