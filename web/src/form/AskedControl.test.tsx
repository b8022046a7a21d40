// @vitest-environment jsdom
import { cleanup, render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, describe, expect, it, vi } from "vitest";
import type { Json } from "../api/client";
import { askedType, askedTypes, nameOf, pastedFields, withType } from "./askedTypes";
import { AskedControl } from "./controls/AskedControl";

afterEach(cleanup);

function shown(value?: Json) {
  const onSet = vi.fn();
  render(
    <AskedControl
      id="asks"
      label="Asks for"
      schema={{}}
      value={value}
      problems={[]}
      around={{ connection: undefined, values: {} }}
      onSet={onSet}
    />,
  );
  return () => onSet.mock.lastCall?.[0] as Json;
}

describe("a pasted list of fields", () => {
  it("is read line by line: what must be filled in, what each takes, and what it can be", () => {
    expect(
      pastedFields(
        [
          "Your name *",
          "- Mail (email) *",
          "2) Phone",
          "Cone: 6, 9, 10",
          "",
          "Day",
          "Hour",
          "A picture (file)",
          "Remarks (long)",
          "Studio (if any)",
          "I agree to the rules (consent)*",
        ].join("\n"),
        ["phone"],
      ),
    ).toEqual([
      { name: "your_name", title: "Your name", type: "string", required: true },
      { name: "mail", title: "Mail", type: "string", format: "email", required: true },
      { name: "phone_2", title: "Phone", type: "string", hint: "phone" },
      { name: "cone", title: "Cone", enum: ["6", "9", "10"] },
      { name: "day", title: "Day", type: "string", format: "date" },
      { name: "hour", title: "Hour", type: "string", hint: "time" },
      { name: "a_picture", title: "A picture", hint: "file" },
      { name: "remarks", title: "Remarks", type: "string", hint: "lines" },
      { name: "studio", title: "Studio (if any)", type: "string" },
      {
        name: "i_agree_to_the_rules",
        title: "I agree to the rules",
        type: "boolean",
        const: true,
        required: true,
      },
    ]);
  });

  it("comes behind the fields that are there", async () => {
    const set = shown([{ name: "who", title: "Who", type: "string" }]);
    await userEvent.click(screen.getByRole("button", { name: "Paste a list" }));
    const take = screen.getByRole("button", { name: "Take these fields" });
    expect(take).toHaveProperty("disabled", true);
    await userEvent.type(screen.getByLabelText("One field on each line"), "Who{Enter}Cone: 6, 9");
    await userEvent.click(take);
    expect(set()).toEqual([
      { name: "who", title: "Who", type: "string" },
      { name: "who_2", title: "Who", type: "string" },
      { name: "cone", title: "Cone", enum: ["6", "9"] },
    ]);
    expect(screen.queryByLabelText("One field on each line")).toBeNull();
  });
});

describe("what else can be said of a field", () => {
  it("is help, and bounds by what it takes", async () => {
    const set = shown([{ name: "day", title: "Day", type: "string", format: "date" }]);
    expect(screen.queryByLabelText("Earliest")).toBeNull();
    await userEvent.click(screen.getByRole("button", { name: "More on Day" }));
    await userEvent.type(screen.getByLabelText("Earliest"), "today");
    await userEvent.type(screen.getByLabelText("Help"), "Not on Sundays");
    expect(set()).toEqual([
      {
        name: "day",
        title: "Day",
        type: "string",
        format: "date",
        earliest: "today",
        description: "Not on Sundays",
      },
    ]);
    await userEvent.clear(screen.getByLabelText("Earliest"));
    expect(set()).toEqual([
      { name: "day", title: "Day", type: "string", format: "date", description: "Not on Sundays" },
    ]);
  });

  it("is read as what it is, and says what is wrong", async () => {
    const set = shown([{ name: "picture", title: "Picture", hint: "file", up_to: 5 }]);
    const largest = screen.getByLabelText("Largest");
    expect((largest as HTMLInputElement).value).toBe("5");
    await userEvent.clear(largest);
    await userEvent.type(largest, "2.5");
    expect(screen.getByText("2.5 is not a whole number")).toBeTruthy();
    await userEvent.clear(largest);
    await userEvent.type(largest, "12");
    expect(set()).toEqual([{ name: "picture", title: "Picture", hint: "file", up_to: 12 }]);
  });
});

describe("fields to ask for", () => {
  it("have each type that can be chosen", () => {
    for (const t of askedTypes) expect(askedType(withType({ name: "a" }, t.name))).toBe(t.name);
  });

  it("are named by their titles, and take what is chosen", async () => {
    const set = shown();
    await userEvent.click(screen.getByRole("button", { name: "Ask for a field" }));
    await userEvent.type(screen.getByLabelText("What field 1 is called"), "Kiln number");
    await userEvent.selectOptions(screen.getByLabelText("What Kiln number takes"), "whole number");
    await userEvent.click(screen.getByLabelText("must be filled in"));
    expect(set()).toEqual([{ name: "kiln_number", title: "Kiln number", type: "integer", required: true }]);
    await userEvent.click(screen.getByRole("button", { name: "Ask for another field" }));
    await userEvent.type(screen.getByLabelText("What field 2 is called"), "Kiln number");
    await userEvent.selectOptions(
      screen.getByLabelText("What Kiln number takes", { selector: "#asks-1 ~ select" }),
      "one of …",
    );
    await userEvent.type(screen.getByLabelText("What Kiln number can be"), "6, 9");
    expect(set()).toEqual([
      { name: "kiln_number", title: "Kiln number", type: "integer", required: true },
      { name: "kiln_number_2", title: "Kiln number", enum: ["6", "9"] },
    ]);
  });

  it("are moved and taken away, and one that only the text says is left as it is", async () => {
    const odd = { name: "lines", title: "Lines", type: "array", items: { type: "object" } };
    const set = shown([{ name: "glaze", title: "Glaze", type: "string" }, odd]);
    expect(screen.getByLabelText<HTMLSelectElement>("What Lines takes").value).toBe("other");
    await userEvent.click(screen.getByRole("button", { name: "Move Lines up" }));
    expect(set()).toEqual([odd, { name: "glaze", title: "Glaze", type: "string" }]);
    await userEvent.click(screen.getByRole("button", { name: "No longer ask for Glaze" }));
    expect(set()).toEqual([odd]);
    await userEvent.click(screen.getByRole("button", { name: "No longer ask for Lines" }));
    expect(set()).toBeUndefined();
  });

  it("keep their names when their titles change: steps may read them", async () => {
    const set = shown([{ name: "glaze", title: "Glaze", type: "string" }]);
    await userEvent.type(screen.getByLabelText("What field 1 is called"), " wanted");
    expect(set()).toEqual([{ name: "glaze", title: "Glaze wanted", type: "string" }]);
  });

  it("have a type that is read back", () => {
    for (const t of [
      "text",
      "long",
      "number",
      "whole",
      "yes_no",
      "one_of",
      "several",
      "list",
      "date",
      "moment",
      "file",
    ])
      expect(askedType(withType({ name: "x" }, t))).toBe(t);
    expect(withType({ name: "x", enum: ["a"] }, "several")).toEqual({
      name: "x",
      type: "array",
      items: { enum: ["a"] },
    });
    expect(nameOf("Größe in °C", [])).toBe("gro_e_in_c");
    expect(nameOf("7 kilns", ["kilns"])).toBe("kilns_2");
    expect(nameOf("…", [])).toBe("field");
  });
});
