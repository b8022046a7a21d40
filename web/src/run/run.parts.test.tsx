// @vitest-environment jsdom
import { asBrowser, serve, show } from "../testing/kit";
import { cleanup, screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it, vi } from "vitest";
import type { Column, Fate, Run } from "../api/client";
import { FieldList } from "../lattice/FieldList";
import { Legend } from "../lattice/Legend";
import { Others } from "../lattice/Others";
import { Overview } from "../lattice/Overview";
import { Beside } from "./Beside";
import { Changes } from "./Changes";
import { Figures } from "./Figures";
import { OtherRuns } from "./OtherRuns";
import { span, Waterfall } from "./Waterfall";

asBrowser();

const counts = {
  in: 12,
  through: 8,
  held_back: 3,
  gave_nothing: 0,
  set_aside: 1,
  stopped: 0,
  may_have_been_sent: 0,
  not_done: 0,
  calls: 1,
  units: 0,
};

const run = (over: object = {}, columns: object[] = []) =>
  ({
    run: {
      id: "r1",
      workflow: "glaze-order",
      state: "done",
      accepted: "2026-11-20T08:00:00Z",
      ended: "2026-11-20T08:00:01.5Z",
      counts,
      ...over,
    },
    columns,
  }) as unknown as Run;

const column = (over: Partial<Column>) =>
  ({ name: "rows", line: "2", sentence: "Read the glaze lots", calls: 1, millis: 80, ...over }) as Column;

describe("how long something took", () => {
  it.each([
    [0, "0 ms"],
    [999.4, "999 ms"],
    [1500, "1.5 s"],
    [90_000, "2 min"],
    [5_400_000, "1.5 h"],
  ])("%d ms reads %s", (ms, words) => {
    expect(span(ms)).toBe(words);
  });
});

describe("when the steps called outside", () => {
  it("says that nothing was called", async () => {
    await show(<Waterfall run={run({}, [column({})])} />);
    expect(screen.getByText("No step of this run has called anything.")).toBeTruthy();
  });

  it("draws each step where it began and as long as it was", async () => {
    const columns = [
      column({ began: "2026-11-20T08:00:00Z", ended: "2026-11-20T08:00:01Z", calls: 4, millis: 400 }),
      column({
        name: "memo",
        line: "3",
        sentence: "Write a memo",
        began: "2026-11-20T08:00:01Z",
        ended: "2026-11-20T08:00:02Z",
      }),
      column({ name: "set", line: "4", sentence: "Set the batch" }),
    ];
    await show(<Waterfall run={run({}, columns)} />);
    const rows = within(screen.getByRole("table", { name: "When the steps called outside" })).getAllByRole(
      "row",
    );
    expect(rows).toHaveLength(2);
    expect(rows[0]?.textContent).toBe("2 Read the glaze lots1.0 s, 4 calls of 100 ms");
    expect(rows[1]?.textContent).toBe("3 Write a memo1.0 s, 1 call of 80 ms");
    const bar = rows[1]?.querySelector("span");
    expect(bar?.style.left).toBe("50%");
    expect(bar?.style.width).toBe("50%");
  });

  it("draws a bar of a call that took no time at all", async () => {
    const at = "2026-11-20T08:00:00Z";
    await show(<Waterfall run={run({}, [column({ began: at, ended: at, millis: 0, calls: 0 })])} />);
    expect(screen.getByRole("row").textContent).toContain("0 ms, 0 calls of 0 ms");
    expect(screen.getByRole("row").querySelector("span")?.style.width).toBe("0.4%");
  });
});

describe("what a step changed of an item", () => {
  const words = () => screen.getAllByRole("term").map((t) => t.textContent);

  it("tells what is new, what is other and what is gone, in this order", async () => {
    await show(
      <Changes
        before={{ lot: "L-1", kilns: 2, note: "dry", same: [1, { a: null }] }}
        after={{ lot: "L-2", fired: true, kilns: 2, same: [1, { a: null }] }}
      />,
    );
    expect(words()).toEqual(["fired new", "lot changed", "note gone"]);
    expect(screen.getByText("L-2").nextElementSibling?.textContent).toBe("was L-1");
    expect(screen.getByText("dry").tagName).toBe("S");
  });

  it("says that nothing was changed", async () => {
    await show(<Changes before={{ lot: "L-1" }} after={{ lot: "L-1" }} />);
    expect(screen.getByText("Nothing of it was changed.")).toBeTruthy();
  });

  it("tells nothing apart from empty text and from no field", async () => {
    await show(<Changes before={{ a: null, b: "" }} after={{ a: "", c: null }} />);
    expect(words()).toEqual(["c new", "a changed", "b gone"]);
    expect(screen.getByText("was nothing")).toBeTruthy();
  });

  it("shows the new item as it is where nothing of the old one is left", async () => {
    await show(<Changes before={{ lot: "L-1" }} after={{ order: "O-9", pieces: 40 }} />);
    expect(words()).toEqual(["order", "pieces"]);
  });
});

describe("the figures of a run", () => {
  it("tells what there is, and how long it took", async () => {
    await show(
      <div data-testid="f">
        <Figures run={run()} />
      </div>,
    );
    const text = screen.getByTestId("f").textContent;
    expect(text).toBe("12 in8 through3 held back1 set aside1.5 s1 call");
  });

  it("tells of no items too, and of units", async () => {
    const none = { ...counts, in: 0, through: 0, held_back: 0, set_aside: 0, calls: 1200, units: 34 };
    await show(
      <div data-testid="f">
        <Figures run={run({ counts: none, ended: undefined })} />
      </div>,
    );
    expect(screen.getByTestId("f").textContent).toBe("0 in1,200 calls, 34 units");
  });

  it("says nothing of a run that has not been counted", async () => {
    await show(
      <div data-testid="f">
        <Figures run={run({ counts: undefined })} />
      </div>,
    );
    expect(screen.getByTestId("f").textContent).toBe("");
  });
});

describe("the other runs", () => {
  it("leads to the same item in them", async () => {
    serve({
      "GET /runs/r1/items/1.4/history": {
        runs: [
          {
            run: "r0",
            address: "1.2",
            title: "Glaze order",
            state: "done",
            accepted: "2026-11-18T08:00:00Z",
          },
        ],
      },
    });
    const page = await show(<OtherRuns run="r1" address="1.4" />);
    expect(await screen.findByText("Glaze order, done")).toBeTruthy();
    await userEvent.click(screen.getByRole("link"));
    await waitFor(() => {
      expect(page.where()).toMatch(/^\/runs\/r0\?item=/);
    });
  });

  it("takes no room where there are none, and where the service cannot tell", async () => {
    const calls = serve({ "GET /runs/r1/items/1/history": { runs: [] } });
    await show(<OtherRuns run="r1" address="1" />);
    await waitFor(() => {
      expect(calls).toHaveLength(1);
    });
    expect(screen.queryByText("Its other runs")).toBeNull();
    cleanup();
    await show(<OtherRuns run="r1" address="2" />);
    await waitFor(() => {
      expect(calls).toHaveLength(2);
    });
    expect(screen.queryByText("Its other runs")).toBeNull();
  });

  it("stand beside this one, and are put away again, with the rest of the address kept", async () => {
    const other = { id: "r0", workflow: "glaze-order", state: "failed", accepted: "2026-11-18T08:00:00Z" };
    const calls = serve({
      "GET /runs": { runs: [{ ...other, id: "r1" }, other, { ...other, id: "r9", label: "twice" }] },
    });
    const page = await show(<Beside run={run()} beside={undefined} />, "/runs/r1?item=1.4");
    const box = screen.getByLabelText<HTMLSelectElement>("Beside another run");
    expect(box.disabled).toBe(true); // its place is kept while the runs are read
    await waitFor(() => {
      expect(box.disabled).toBe(false);
    });
    expect(calls[0]?.path).toContain("workflow=glaze-order");
    const offered = within(box)
      .getAllByRole("option")
      .map((o) => o.textContent);
    expect(offered).toHaveLength(3); // this run is not among them
    expect(offered[2]).toMatch(/, failed, twice$/);
    await userEvent.selectOptions(box, "r0");
    await waitFor(() => {
      expect(page.where()).toBe("/runs/r1?item=1.4&beside=r0");
    });
    await userEvent.selectOptions(box, "r9");
    await waitFor(() => {
      expect(page.where()).toContain("beside=r9");
    });
    await userEvent.selectOptions(box, "Beside another run…");
    await waitFor(() => {
      expect(page.where()).toBe("/runs/r1?item=1.4");
    });
  });
});

describe("an item's fields", () => {
  it("stand in the order of their names and say what is nothing", async () => {
    await show(<FieldList fields={{ pieces: 40, colour: "", b: null }} />);
    expect(screen.getAllByRole("term").map((t) => t.textContent)).toEqual(["b", "colour", "pieces"]);
    expect(screen.getAllByRole("definition").map((t) => t.textContent)).toEqual([
      "nothing",
      "empty text",
      "40",
    ]);
    expect(screen.queryByRole("button")).toBeNull();
  });

  it("say that there are none", async () => {
    await show(<FieldList fields={{}} />);
    expect(screen.getByText("no fields")).toBeTruthy();
  });

  it("are used by name, by value and from within, with names that need quotes", async () => {
    const use = vi.fn();
    await show(
      <FieldList fields={{ "Lot no": "L-1", customer: { town: "Ottermere" }, list: [1, 2] }} onUse={use} />,
    );
    await userEvent.click(screen.getByRole("button", { name: "L-1" }));
    await userEvent.click(screen.getByRole("button", { name: "customer" }));
    await userEvent.click(screen.getByRole("button", { name: "town Ottermere" }));
    await userEvent.click(screen.getByRole("button", { name: "town" }));
    expect(use.mock.calls.map(([p]) => p as string)).toEqual([
      `item["Lot no"]`,
      "item.customer",
      "item.customer.town",
    ]);
  });

  it("show a list as it is", async () => {
    await show(<FieldList fields={{ list: [{ lot: "L-1" }] }} />);
    const head = screen.getByRole("button", { name: "list of 1" });
    expect(head.getAttribute("aria-expanded")).toBe("false");
    await userEvent.click(head);
    expect(head.getAttribute("aria-expanded")).toBe("true");
    expect(screen.getByText(/"lot": "L-1"/)).toBeTruthy();
  });

  it("show marks that turn text around", async () => {
    await show(<FieldList fields={{ "a\u202eb": "x\u200by" }} />);
    expect(screen.getByRole("term").textContent).not.toContain("\u202e");
    expect(screen.getByRole("definition").textContent).not.toContain("\u200b");
  });
});

describe("around the lattice", () => {
  it("only the marks that occur are explained", async () => {
    const fates: Fate[] = ["passed", "set_aside", "not_reached", "off"];
    await show(
      <div data-testid="l">
        <Legend fates={fates} simulated />
      </div>,
    );
    expect(screen.getByTestId("l").firstElementChild?.children).toHaveLength(3);
    expect(screen.getByText("≈ from a sample answer")).toBeTruthy();
  });

  it("the rows of other ways are one line", async () => {
    await show(
      <Others
        list={[
          { way: "rush", rows: 1200 },
          { way: "", rows: 3 },
        ]}
      />,
    );
    expect(screen.getByRole("rowheader").textContent).toBe("+1,203");
    expect(screen.getByRole("gridcell").textContent).toBe(
      "1,203 others; rush 1,200: on their own ways; 3 did not come here",
    );
  });

  it("a single one is no others", async () => {
    await show(<Others list={[{ way: "", rows: 1 }]} />);
    expect(screen.getByRole("gridcell").textContent).toBe("1 other; 1 did not come here");
  });

  it("trouble among many lines is seen, and gone to", async () => {
    const go = vi.fn();
    const lines = Array.from({ length: 360 }, (_, i) => ({ trouble: i === 200 })) as never[];
    await show(<Overview lines={lines} from={0} to={9} onGo={go} />);
    const bar = screen.getByTitle("Where trouble lies");
    expect(bar.children).toHaveLength(36);
    expect([...bar.children].map((c) => c.className.includes("bg-rust")).indexOf(true)).toBe(20);
    bar.getBoundingClientRect = () => ({ top: 0, height: 360 }) as DOMRect;
    await userEvent.pointer({ keys: "[MouseLeft]", target: bar, coords: { clientY: 201 } });
    expect(go).toHaveBeenCalledWith(201);
  });

  it("what is in sight as a whole needs no overview", async () => {
    await show(<Overview lines={[{ trouble: false }] as never[]} from={0} to={9} onGo={vi.fn()} />);
    expect(screen.queryByTitle("Where trouble lies")).toBeNull();
  });
});
