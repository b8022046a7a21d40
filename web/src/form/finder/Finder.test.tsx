// @vitest-environment jsdom
import { cleanup, render, screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, beforeAll, describe, expect, it, vi } from "vitest";
import type { Fields } from "../../api/client";
import { ValuesContext } from "../values";
import { Finder } from "./Finder";
import { Suggested } from "./Suggested";

beforeAll(() => {
  Element.prototype.scrollIntoView = () => undefined;
});
afterEach(cleanup);

const rows: Fields[] = [
  { piece: "Tall jug", cone: 9, lines: [{ glaze: "Ash" }] },
  { piece: "Moon jar", cone: "", lines: [] },
];
const spread = vi.fn();
const values = {
  sources: () => [
    { prefix: "item", title: "This item", rows, chosen: rows[0] },
    { prefix: "trigger", title: "What started it", rows: [{ who: "Mara" }], chosen: { who: "Mara" } },
  ],
  spread,
};

function shown(known: typeof values | undefined = values) {
  const onUse = vi.fn();
  render(
    <ValuesContext.Provider value={known}>
      <Finder label="Name" onUse={onUse} onClose={() => undefined} />
    </ValuesContext.Provider>,
  );
  return { onUse, box: screen.getByRole("combobox", { name: "Find a value for Name" }) };
}

describe("the finder", () => {
  it("shows each field with its type, its value, and how often it is filled in", () => {
    shown();
    const [piece, cone] = screen.getAllByRole("option");
    expect(within(piece!).getByText("Tall jug")).toBeTruthy();
    expect(within(cone!).getByText("1 of 2")).toBeTruthy();
    expect(screen.getByText("What started it")).toBeTruthy();
  });

  it("takes what is marked with Enter, found by name or value", async () => {
    const { onUse, box } = shown();
    await userEvent.type(box, "moon{Enter}");
    expect(onUse).toHaveBeenLastCalledWith("item.piece");
    await userEvent.clear(box);
    await userEvent.type(box, "{ArrowDown}{ArrowDown}{ArrowUp}{Enter}");
    expect(onUse).toHaveBeenLastCalledWith("item.cone");
    await userEvent.clear(box);
    await userEvent.type(box, "mara{Enter}");
    expect(onUse).toHaveBeenLastCalledWith("trigger.who");
  });

  it("asks which of a list is meant, and adds a line for one item each", async () => {
    const { onUse, box } = shown();
    await userEvent.type(box, "glaze{Enter}");
    expect(onUse).not.toHaveBeenCalled();
    await userEvent.click(screen.getByRole("button", { name: /Of all, joined/ }));
    expect(onUse).toHaveBeenLastCalledWith('join(map(item.lines, #.glaze), ", ")');
    await userEvent.click(screen.getByRole("button", { name: "Another value" }));
    await userEvent.type(screen.getByRole("combobox"), "{End}{Backspace}e{Enter}");
    await userEvent.click(screen.getByRole("button", { name: /One item each/ }));
    expect(onUse).toHaveBeenLastCalledWith("item.glaze");
    expect(spread).toHaveBeenCalledWith("item.lines");
  });

  it("says what to do where nothing is known, and where nothing is found", async () => {
    const { box } = shown();
    await userEvent.type(box, "kiln god");
    expect(screen.getByText("No name and no value has “kiln god” in it.")).toBeTruthy();
    cleanup();
    shown({ ...values, sources: () => [] });
    expect(screen.getByText(/rehearse, or keep a sample/)).toBeTruthy();
  });
});

describe("suggested mappings", () => {
  it("are taken one at a time, or all at once", async () => {
    const onTake = vi.fn();
    const wanted = [
      { name: "piece", required: true, schema: { type: "string", title: "Piece" } },
      { name: "cone", required: true, schema: { type: "integer", title: "Cone" } },
    ];
    render(
      <ValuesContext.Provider value={values}>
        <Suggested wanted={wanted} values={{}} onTake={onTake} />
      </ValuesContext.Provider>,
    );
    await userEvent.click(screen.getByRole("button", { name: /^Cone/ }));
    expect(onTake.mock.lastCall?.[0]).toMatchObject([{ name: "cone", expression: "(= item.cone )" }]);
    await userEvent.click(screen.getByRole("button", { name: "take all 2" }));
    expect(onTake.mock.lastCall?.[0]).toHaveLength(2);
  });
});
