// @vitest-environment jsdom
import { fireEvent, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import type { ComponentType } from "react";
import { describe, expect, it, vi } from "vitest";
import type { Fields, Json } from "../api/client";
import { asBrowser, serve, show } from "../testing/kit";
import { KeepControl } from "./controls/KeepControl";
import { PairsControl } from "./controls/PairsControl";
import type { ControlProps } from "./controls/props";
import { SortKeysControl } from "./controls/SortKeysControl";
import { TotalsControl } from "./controls/TotalsControl";
import { ValuesContext } from "./values";

asBrowser();

const item = { piece: "Tall jug", studio: "Hollowbank", cone: 9 };
const shared = { item, trigger: undefined, row: undefined, steps: [] };
const values = { sources: () => [{ prefix: "item", title: "This item", rows: [item], chosen: item }] };

async function control(
  Control: ComponentType<ControlProps>,
  schema: Fields,
  value: Json | undefined,
  around: Partial<ControlProps["around"]> = {},
) {
  const onSet = vi.fn();
  await show(
    <ValuesContext.Provider value={values}>
      <Control
        id="c"
        label="Values"
        schema={schema}
        value={value}
        onSet={onSet}
        problems={[]}
        around={{ connection: "tables", values: {}, shared, ...around }}
      />
    </ValuesContext.Provider>,
  );
  return () => onSet.mock.lastCall?.[0] as Json | undefined;
}

describe("names with values", () => {
  const columns = { options: [{ name: "piece" }, { name: "studio" }, { name: "note" }], searches: false };
  it("offer the columns of the tab, and fill in what fits by name", async () => {
    serve({ "POST /connections/tables/choices/columns": columns, "GET /functions": { functions: [] } });
    const set = await control(PairsControl, { keys: "columns" }, undefined);
    await userEvent.click(await screen.findByRole("button", { name: "take all 2" }));
    expect(set()).toEqual({ piece: "(= item.piece )", studio: "(= item.studio )" });
    await userEvent.click(screen.getByRole("button", { name: "note" }));
    expect(set()).toEqual({ piece: "(= item.piece )", studio: "(= item.studio )", note: "" });
    await userEvent.click(screen.getByRole("button", { name: "Remove studio" }));
    expect(set()).toEqual({ piece: "(= item.piece )", note: "" });
    expect(screen.queryByLabelText("New name in Values")).toBeNull();
  });

  it("say why there are no columns, and take names by hand where the list cannot be read", async () => {
    serve({ "POST /connections/tables/choices/columns": { options: [], why_empty: "Choose a tab first." } });
    await control(PairsControl, { keys: "columns" }, undefined);
    expect(await screen.findByText("Choose a tab first.")).toBeTruthy();
    document.body.innerHTML = "";
    serve({});
    const set = await control(PairsControl, { keys: "columns" }, undefined);
    await userEvent.type(await screen.findByLabelText("New name in Values"), "size{Enter}");
    expect(set()).toEqual({ size: "" });
  });

  it("are plain text where old names become new ones", async () => {
    serve({});
    const set = await control(PairsControl, { hint: "names" }, { piece: "title" });
    fireEvent.change(screen.getByLabelText("piece"), { target: { value: "name" } });
    fireEvent.blur(screen.getByLabelText("piece"));
    expect(set()).toEqual({ piece: "name" });
    await userEvent.click(screen.getByRole("button", { name: "Remove piece" }));
    expect(set()).toBeUndefined();
  });
});

describe("the order of items", () => {
  const schema = {
    items: { properties: { order: { words: { ascending: "least first", descending: "most first" } } } },
  };
  it("is by one value, and by others then", async () => {
    serve({ "GET /functions": { functions: [] }, "POST /evaluate": { text: "9" } });
    const set = await control(SortKeysControl, schema, [{ of: "item.cone" }]);
    await userEvent.selectOptions(screen.getByLabelText("Order 1"), "most first");
    expect(set()).toEqual([{ of: "item.cone", order: "descending" }]);
    await userEvent.click(screen.getByRole("button", { name: /Then by another value/ }));
    expect(screen.getByLabelText("Order 2")).toBeTruthy();
    expect(set()).toEqual([{ of: "item.cone", order: "descending" }]);
    await userEvent.click(screen.getByRole("button", { name: "Remove value 2" }));
    await userEvent.selectOptions(screen.getByLabelText("Order 1"), "least first");
    expect(set()).toEqual([{ of: "item.cone" }]);
  });
});

describe("the fields of what is gathered", () => {
  const schema = {
    additionalProperties: {
      properties: { how: { enum: ["count", "sum", "text"], words: { sum: "the sum", text: "joined" } } },
    },
  };
  it("have a name, a way, and what they are made of", async () => {
    serve({ "GET /functions": { functions: [] }, "POST /evaluate": { text: "9" } });
    const set = await control(TotalsControl, schema, { litres: { how: "sum", of: "item.litres" } });
    await userEvent.selectOptions(screen.getByLabelText("How field 1 is made"), "joined");
    expect(set()).toEqual({ litres: { how: "text", of: "item.litres" } });
    await userEvent.click(screen.getByRole("button", { name: /Another field/ }));
    expect(set()).toEqual({ litres: { how: "text", of: "item.litres" }, field_2: { how: "count" } });
    fireEvent.change(screen.getByLabelText("Name of field 2"), { target: { value: "pots" } });
    fireEvent.blur(screen.getByLabelText("Name of field 2"));
    expect(set()).toEqual({ litres: { how: "text", of: "item.litres" }, pots: { how: "count" } });
    await userEvent.click(screen.getByRole("button", { name: "Remove field 1" }));
    expect(set()).toEqual({ pots: { how: "count" } });
  });
});

describe("which fields go on", () => {
  it("are all, none, or those that are chosen", async () => {
    serve({});
    let set = await control(KeepControl, {}, undefined);
    await userEvent.click(screen.getByLabelText("none"));
    expect(set()).toBe("none");
    await userEvent.click(screen.getByLabelText("only these"));
    expect(set()).toEqual(["piece", "studio", "cone"]);
    document.body.innerHTML = "";
    set = await control(KeepControl, {}, ["piece", "gone"]);
    await userEvent.click(screen.getByRole("button", { name: "cone" }));
    expect(set()).toEqual(["piece", "gone", "cone"]);
  });
});
