// @vitest-environment jsdom
import { fireEvent, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it, vi } from "vitest";
import type { Fields, Json, Schemas } from "../api/client";
import { asBrowser, No, serve, show } from "../testing/kit";
import { Field } from "./Field";
import { ValuesContext } from "./values";

asBrowser();

/** Shows one field, and gives what was set last. */
async function field(schema: Fields, value?: Json, more: Partial<Parameters<typeof Field>[0]> = {}) {
  const onSet = vi.fn();
  await show(
    <ValuesContext.Provider value={{ sources: () => [] }}>
      <Field
        id="f"
        property={{ name: "f", required: false, schema: { title: "Field", ...schema } }}
        value={value}
        around={{ connection: "tables", values: {} }}
        onSet={onSet}
        {...more}
      />
    </ValuesContext.Provider>,
  );
  return () => onSet.mock.lastCall?.[0] as Json | undefined;
}
const box = () => screen.getByLabelText<HTMLInputElement>("Field");

describe("another workflow", () => {
  const workflow = { type: "string", hint: "workflow" };
  const all = {
    workflows: [
      { name: "gas-price", title: "Gas price" },
      { name: "memo-once", title: "memo-once" },
    ],
  };

  it("is chosen by its name", async () => {
    serve({ "GET /workflows": all });
    const set = await field(workflow);
    await userEvent.selectOptions(box(), await screen.findByRole("option", { name: "Gas price, gas-price" }));
    expect(set()).toBe("gas-price");
    expect(screen.getByRole("option", { name: "memo-once" })).toBeTruthy();
  });

  it("that is not there any more stays chosen and says so, and can be taken out", async () => {
    serve({ "GET /workflows": all });
    const set = await field(workflow, "kiln-loads");
    const gone = await screen.findByRole<HTMLOptionElement>("option", {
      name: "kiln-loads, which is not there",
    });
    expect(gone.selected).toBe(true);
    await userEvent.selectOptions(box(), "Choose…");
    expect(set()).toBeUndefined();
  });

  it("says why none can be chosen", async () => {
    serve({ "GET /workflows": new No(503, { type: "down", title: "The database does not answer." }) });
    await field(workflow, "gas-price");
    expect(await screen.findByText(/The database does not answer/)).toBeTruthy();
    expect(box().value).toBe("gas-price");
  });
});

describe("a list of the workspace", () => {
  const lists = { lists: [{ name: "duty", title: "On duty" }] };

  it("is chosen by its name", async () => {
    serve({ "GET /lists": lists });
    const set = await field({ type: "string", hint: "workspace_list" });
    await userEvent.selectOptions(box(), await screen.findByRole("option", { name: "On duty, duty" }));
    expect(set()).toBe("duty");
  });

  it("offers its rows, found by whatever they hold", async () => {
    const calls = serve({
      "GET /lists/duty": {
        name: "duty",
        title: "On duty",
        version: 3,
        columns: [{ name: "short" }, { name: "name" }],
      },
      "GET /lists/duty/rows": {
        version: 3,
        total: 1,
        rows: [{ key: "wren", fields: { short: "wren", name: "Wren Castleton" } }],
      },
    });
    const set = await field({ type: "string", from_list: "duty" });
    await userEvent.type(box(), "cast");
    expect(set()).toBe("cast");
    await waitFor(() => {
      expect(calls.some((c) => c.path.includes("find=cast"))).toBe(true);
    });
    const options = () => [...document.querySelectorAll("datalist option")] as HTMLOptionElement[];
    await waitFor(() => {
      expect(options().map((o) => [o.value, o.textContent])).toEqual([["wren", "Wren Castleton"]]);
    });
    await userEvent.clear(box());
    expect(set()).toBeUndefined();
  });
});

describe("each type has its control", () => {
  it("text of one line, and of several", async () => {
    let set = await field({ type: "string", examples: ["Celadon 4"] });
    expect(box().placeholder).toBe("Celadon 4");
    await userEvent.type(box(), "Tenmoku");
    expect(set()).toBe("Tenmoku");
    await userEvent.clear(box());
    expect(set()).toBeUndefined();
    document.body.innerHTML = "";
    set = await field({ type: "string", hint: "lines" });
    await userEvent.type(box(), "one{Enter}two");
    expect(set()).toBe("one\ntwo");
    expect(box().tagName).toBe("TEXTAREA");
  });

  it("a number, with what is wrong once it was left, and long ones to the digit", async () => {
    const set = await field({ type: "integer", default: 7 });
    expect(box().placeholder).toBe("7 unless said otherwise");
    await userEvent.type(box(), "12");
    expect(set()).toBe(12);
    await userEvent.clear(box());
    await userEvent.type(box(), "9223372036854775807");
    expect(set()).toBe(9223372036854775807n);
    await userEvent.clear(box());
    await userEvent.type(box(), "seven");
    expect(screen.queryByText(/is not a whole number/)).toBeNull();
    await userEvent.tab();
    expect(screen.getByText("“seven” is not a whole number")).toBeTruthy();
    expect(box().getAttribute("aria-invalid")).toBe("true");
  });

  it("yes or no", async () => {
    let set = await field({ type: "boolean", default: true });
    await userEvent.click(screen.getByLabelText("no"));
    expect(set()).toBe(false);
    document.body.innerHTML = "";
    set = await field({ type: "boolean", default: true }, false);
    await userEvent.click(screen.getByLabelText("as usual: yes"));
    expect(set()).toBeUndefined();
  });

  it("one of several values, with their words", async () => {
    const set = await field({ enum: [1, 2, "high"], words: { "1": "at once" } });
    await userEvent.selectOptions(box(), "1, at once");
    expect(set()).toBe(1);
    await userEvent.selectOptions(box(), "high");
    expect(set()).toBe("high");
  });

  it("several of some values", async () => {
    const set = await field({ type: "array", items: { enum: ["clay", "glazes"] } }, ["clay"]);
    await userEvent.click(screen.getByLabelText("glazes"));
    expect(set()).toEqual(["clay", "glazes"]);
  });

  it("a list of texts, a list of rows, and any other as JSON", async () => {
    let set = await field({ type: "array", items: { type: "string" } });
    await userEvent.type(box(), "ash, slip");
    expect(set()).toEqual(["ash", "slip"]);
    document.body.innerHTML = "";
    set = await field({ type: "array", items: { type: "object", properties: { what: { title: "What" } } } });
    await userEvent.type(screen.getByLabelText("What, row 1"), "Jug");
    await userEvent.click(screen.getByRole("button", { name: "Another row" }));
    await userEvent.type(screen.getByLabelText("What, row 2"), "Bowl");
    await userEvent.click(screen.getByRole("button", { name: "Remove row 1" }));
    expect(set()).toEqual([{ what: "Bowl" }]);
    document.body.innerHTML = "";
    set = await field({ type: "array", items: { type: "object" } });
    await userEvent.click(box());
    await userEvent.paste('[{"a": 1}]');
    expect(set()).toEqual([{ a: 1 }]);
    await userEvent.paste("x");
    await userEvent.tab();
    expect(screen.getByText(/This is not JSON yet/)).toBeTruthy();
  });

  it("a day, a moment with the offset of the clock then, and a length of time", async () => {
    let set = await field({ type: "string", format: "date" });
    fireEvent.change(box(), { target: { value: "2026-11-20" } });
    expect(set()).toBe("2026-11-20");
    document.body.innerHTML = "";
    set = await field({ type: "string", format: "date-time" });
    fireEvent.change(box(), { target: { value: "2026-11-20T16:30" } });
    expect(new Date(String(set())).getTime()).toBe(new Date(2026, 10, 20, 16, 30).getTime());
    expect(String(set())).toMatch(/[+-]\d\d:\d\d$/);
    document.body.innerHTML = "";
    set = await field({ type: "string", hint: "duration" });
    await userEvent.type(box(), "1d12h");
    expect(set()).toBe("1d12h");
    await userEvent.type(box(), " or so");
    await userEvent.tab();
    expect(screen.getByText(/Write it as 90s, 5m/)).toBeTruthy();
  });

  it("a secret, which is not shown, and a file, which is kept by the service", async () => {
    let set = await field({ type: "string", writeOnly: true });
    expect(box().type).toBe("password");
    await userEvent.type(box(), "a key");
    expect(set()).toBe("a key");
    document.body.innerHTML = "";
    const kept = { file: "sha256-x", name: "memo.wav", type: "audio/wav", size: 4 };
    vi.stubGlobal("fetch", () => Promise.resolve(new Response(JSON.stringify(kept), { status: 200 })));
    set = await field({ hint: "file" });
    await userEvent.upload(box(), new File(["RIFF"], "memo.wav", { type: "audio/wav" }));
    await waitFor(() => {
      expect(set()).toEqual(kept);
    });
  });

  it("a choice of the application, by name, kept with its id", async () => {
    serve({
      "POST /connections/tables/choices/tabs": {
        options: [
          { id: "tb_1", name: "Pieces" },
          { id: "tb_2", name: "Loads" },
        ],
        searches: false,
      },
    });
    const set = await field({ choices: "tabs" });
    await userEvent.click(screen.getByLabelText("Field"));
    await userEvent.click(await screen.findByText("Loads"));
    expect(set()).toEqual({ id: "tb_2", name: "Loads" });
  });

  it("which fields go on, and by what items are put in order", async () => {
    const item = { piece: "Jug", cone: 9 };
    const shared = { item, trigger: undefined, row: undefined, steps: [] };
    const around = { connection: undefined, values: {}, shared };
    const set = await field({ hint: "keep" }, undefined, { around });
    await userEvent.click(screen.getByLabelText("only these"));
    expect(set()).toEqual(["piece", "cone"]);
  });
});

describe("the second way of a field", () => {
  const shared = { item: { days: 7 }, trigger: undefined, row: undefined, steps: [] };
  const around = { connection: undefined, values: {}, shared };
  it("is an expression in place of the control, and back", async () => {
    await field({ type: "integer" }, undefined, { expressions: true, around });
    await userEvent.click(screen.getByRole("button", { name: "Make Field by an expression" }));
    expect(screen.queryByRole("spinbutton")).toBeNull();
    expect(screen.getByRole("button", { name: "Find a value for Field" })).toBeTruthy();
    await userEvent.click(screen.getByRole("button", { name: "Fill in Field by hand" }));
    expect(box().tagName).toBe("INPUT");
  });

  it("says that an expression still counts until something is filled in by hand", async () => {
    await field({ type: "integer" }, "(= item.days )", { expressions: true, around });
    await userEvent.click(screen.getByRole("button", { name: "Fill in Field by hand" }));
    expect(screen.getByText(/Until it is filled in/).textContent).toContain("(= item.days )");
  });
});

describe("what is wrong with a field", () => {
  const finding = (more: Partial<Schemas["Finding"]>): Schemas["Finding"] => ({
    severity: "error",
    path: "f",
    message: "It is wrong.",
    line: 1,
    column: 1,
    ...more,
  });
  it("stands beneath it in place of its help; what nobody has filled in yet is calm", async () => {
    await field({ type: "string", description: "What it is for." }, "x", { problems: [finding({})] });
    expect(screen.getByText(/It is wrong./)).toBeTruthy();
    expect(screen.queryByText("What it is for.")).toBeNull();
    document.body.innerHTML = "";
    await field({ type: "string" }, undefined, { problems: [finding({ gap: true })] });
    expect(screen.getByText("to fill in").className).not.toContain("rust");
  });
});
