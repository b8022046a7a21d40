// @vitest-environment jsdom
import { cleanup, screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import { asBrowser, serve, show } from "../testing/kit";
import { RunPage } from "./RunPage";

asBrowser();

const columns = ["studio", "noted"].map((name, i) => ({
  name,
  sentence: i === 0 ? "Find or make a studio" : "Add a row to Calls",
  number: i + 1,
  line: String(i + 1),
  kind: i === 0 ? "read" : "write",
  in: 2,
  out: 2 - (i === 0 ? 1 : 0),
  calls: 2,
  held_back: 0,
  set_aside: i === 0 ? 1 : 0,
  stopped: 0,
  gave_nothing: 0,
  may_have_been_sent: 0,
  units: 0,
  millis: 12,
}));
const cell = (fate: string, text = "") => ({ fate, text });
const rows = [
  {
    row: 1,
    address: "0",
    label: "Hollowbank Pottery",
    cells: [cell("read", "Hollowbank"), cell("written", "row 7")],
  },
  {
    row: 2,
    address: "1",
    label: "Saltgrass Studio",
    cells: [cell("set_aside", "the number is none"), cell("not_reached")],
  },
];
const run = (more: object = {}) => ({
  run: {
    id: "r1",
    workflow: "calls",
    title: "Calls at the counter",
    label: "",
    revision: 2,
    state: "partial",
    pass: 1,
    trigger: "manual",
    began: "by hand",
    accepted: "2026-11-20T10:00:00Z",
    ended: "2026-11-20T10:00:02Z",
    reason: "",
    counts: {
      in: 2,
      through: 1,
      held_back: 0,
      gave_nothing: 0,
      set_aside: 1,
      stopped: 0,
      may_have_been_sent: 0,
      not_done: 0,
      calls: 3,
      units: 0,
    },
    ...more,
  },
  columns,
  passes: [{ number: 1, kind: "first", revision: 2, started: "2026-11-20T10:00:00Z", started_by: "Mara" }],
});
const shape = {
  total: 2,
  matching: 2,
  fates: { written: 1, set_aside: 1 },
  bands: [{ band: "-", rows: 2, trouble: 1, first: 0, last: 1 }],
  lines: [1, -1],
};
const opened = {
  address: "1",
  label: "Saltgrass Studio",
  step: "studio",
  sentence: "Find or make a studio",
  cell: { fate: "set_aside", text: "the number is none" },
  before: { number: "+44 1632", caller: "Saltgrass Studio" },
  failure: {
    message: "Telephone number is “+44 1632”; it is written as +441632960142",
    class: "input",
    tried: 0,
  },
  way: [],
};

async function page(more: Record<string, unknown> = {}, is: object = {}) {
  const calls = serve({
    "GET /runs/r1": run(is),
    "GET /runs/r1/lattice/shape": shape,
    "GET /runs/r1/lattice": { rows, total: 2, matching: 2, fates: shape.fates },
    "GET /runs/r1/cells/1/studio": opened,
    "GET /runs/r1/items/1/history": { runs: [] },
    "GET /runs": { runs: [] },
    ...more,
  });
  const shown = await show(<RunPage />, "/runs/r1");
  await screen.findByText("Calls at the counter");
  return { calls, ...shown };
}

describe("a run", () => {
  it("opens where something is to be mended, with the reason in full", async () => {
    const p = await page();
    expect(screen.getByText("Partial: 1 set aside")).toBeTruthy();
    expect(await screen.findByText(/it is written as \+441632960142/)).toBeTruthy();
    await waitFor(() => {
      expect(p.where()).toMatch(/item=%221%22/);
    });
    expect(p.where()).toContain("step=studio");
  });

  it("is shown without its items to whom they were not granted, and they are not asked for", async () => {
    const p = await page({ "GET /session": { name: "Wren", role: "viewer", items: false, workspace: "W" } });
    expect(await screen.findByText(/What the items hold is not shown to you/)).toBeTruthy();
    expect(screen.getByText("Partial: 1 set aside")).toBeTruthy();
    expect(screen.queryByText(/Rows:/)).toBeNull();
    expect(p.calls.some((c) => c.path.includes("/cells/"))).toBe(false);
  });

  it("says what it counts, and narrows its rows by fate", async () => {
    const p = await page();
    await userEvent.click(await screen.findByRole("button", { name: "set aside 1" }));
    await waitFor(() => {
      expect(p.calls.some((c) => c.path.includes("fate=set_aside"))).toBe(true);
    });
    await userEvent.click(screen.getByRole("button", { name: "all 2" }));
  });

  it("is shown as a list and by its times too", async () => {
    await page();
    await userEvent.click(screen.getByRole("button", { name: "As a list" }));
    expect(await screen.findAllByText("Saltgrass Studio", { exact: false })).not.toHaveLength(0);
    await userEvent.click(screen.getByRole("button", { name: "Times" }));
    expect(await screen.findAllByText(/Find or make a studio/)).not.toHaveLength(0);
  });

  it("is started again with the same items", async () => {
    const p = await page({ "POST /workflows/calls/start": { run: "r2", runs: 1 } });
    await userEvent.click(screen.getByRole("button", { name: "Start again" }));
    await waitFor(() => {
      expect(p.where()).toBe("/runs/r2");
    });
    expect(p.calls.find((c) => c.method === "POST")?.body).toEqual({ again: "r1" });
  });

  it("says that it takes the first items only, as long as others wait", async () => {
    await page({ "GET /runs/r1": { ...run(), first: 5 } });
    expect(screen.getByText(/It takes the first 5 items to its first write/)).toBeTruthy();
    cleanup();
    const done = run();
    await page({
      "GET /runs/r1": {
        ...done,
        first: 5,
        run: { ...done.run, counts: { ...done.run.counts, set_aside: 0 } },
      },
    });
    expect(screen.queryByText(/It takes the first/)).toBeNull();
  });

  it("goes on where it stopped, once it has failed", async () => {
    const p = await page(
      { "POST /runs/r1/resume": {} },
      { state: "failed", message: "Tables could not be reached." },
    );
    expect(screen.getByText("Tables could not be reached.")).toBeTruthy();
    await userEvent.click(screen.getByRole("button", { name: "Go on where it stopped" }));
    await waitFor(() => {
      expect(p.calls.some((c) => c.path === "/runs/r1/resume")).toBe(true);
    });
  });

  it("keeps what it began with as a sample of its workflow", async () => {
    const p = await page({
      "GET /runs/r1/cells/1/-": { ...opened, step: "-" },
      "POST /workflows/calls/samples": { id: "s1" },
    });
    await userEvent.click(await screen.findByRole("button", { name: /sample/i }));
    await waitFor(() => {
      expect(p.calls.find((c) => c.path === "/workflows/calls/samples")?.body).toEqual({
        fields: opened.before,
        source: "from run r1",
      });
    });
  });

  it("that is not there says so", async () => {
    serve({});
    await show(<RunPage />, "/runs/gone");
    expect((await screen.findByRole("alert")).textContent).toContain("There is nothing here.");
  });

  it("has a grid with a head for each step", async () => {
    await page();
    const grid = await screen.findByRole("grid");
    const heads = within(grid)
      .getAllByRole("columnheader")
      .map((h) => h.textContent);
    expect(heads.some((h) => h.includes("Find or make a studio"))).toBe(true);
    expect(heads.some((h) => h.includes("Add a row to Calls"))).toBe(true);
    expect(Number(grid.getAttribute("aria-rowcount"))).toBeGreaterThanOrEqual(2);
  });
});
