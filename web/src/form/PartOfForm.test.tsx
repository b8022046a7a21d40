// @vitest-environment jsdom
import { cleanup, render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, describe, expect, it, vi } from "vitest";
import type { Fields, Schemas } from "../api/client";
import { PartOfForm } from "./PartOfForm";
import { closedWords, partsOf } from "./parts";

afterEach(cleanup);

const property = (name: string, part?: string, one = false): Schemas["Property"] => ({
  name,
  required: false,
  schema: { title: name.toUpperCase(), ...(part ? { part } : {}), ...(one ? { one } : {}) },
});

const all = [
  property("url"),
  property("query", "Query"),
  property("json", "Body", true),
  property("text", "Body", true),
  property("wait", "If it fails"),
  property("repeat", "If it fails"),
];

describe("the parts of a form", () => {
  it("stand in the order of their first fields", () => {
    expect(partsOf(all).map((p) => [p.title, p.one, p.properties.length])).toEqual([
      ["", false, 1],
      ["Query", false, 1],
      ["Body", true, 2],
      ["If it fails", false, 2],
    ]);
    expect(partsOf([])).toEqual([]);
  });
  it("say what they are for, or what they hold", () => {
    const [, query, body, fails] = partsOf(all);
    if (!query || !body || !fails) throw new Error("parts are missing");
    expect(closedWords(query, {})).toBe("");
    expect(closedWords(query, { query: { a: 1 } })).toBe("filled in");
    expect(closedWords(body, {})).toBe("none");
    expect(closedWords(body, { json: 1 })).toBe("JSON");
    expect(closedWords(fails, {})).toBe("WAIT, REPEAT");
    expect(closedWords(fails, { repeat: "safe" })).toBe("REPEAT");
  });
});

function shown(at: number, values: Fields, wrong = false) {
  const part = partsOf(all)[at];
  if (!part) throw new Error("there is no such part");
  const onClear = vi.fn();
  render(
    <PartOfForm
      id="p"
      part={part}
      values={values}
      wrong={wrong}
      render={(p) => <div key={p.name}>field {p.name}</div>}
      onClear={onClear}
    />,
  );
  return onClear;
}

describe("a part of a form", () => {
  it("is closed while it holds nothing, and opens at a press", async () => {
    shown(3, {});
    expect(screen.queryByText("field wait")).toBeNull();
    await userEvent.click(screen.getByRole("button", { name: /If it fails/ }));
    expect(screen.getByText("field wait")).toBeTruthy();
    expect(screen.getByText("field repeat")).toBeTruthy();
  });
  it("is open where it holds something, or something in it is wrong", () => {
    shown(3, { wait: 1 });
    expect(screen.getByText("field wait")).toBeTruthy();
    cleanup();
    shown(3, {}, true);
    expect(screen.getByText("field wait")).toBeTruthy();
  });
  it("shows the one field that was chosen, and clears the one before", async () => {
    const onClear = shown(2, { json: 1 });
    expect(screen.getByText("field json")).toBeTruthy();
    expect(screen.queryByText("field text")).toBeNull();
    await userEvent.selectOptions(screen.getByLabelText("Body"), "TEXT");
    expect(onClear).toHaveBeenCalledWith("json");
    expect(screen.getByText("field text")).toBeTruthy();
  });
});
