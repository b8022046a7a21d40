// @vitest-environment jsdom
import { asBrowser, No, serve, show } from "../testing/kit";
import { cleanup, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import type { Workflow } from "../api/client";
import { GoLive } from "../pages/GoLive";

asBrowser();

const workflow = (over: object = {}) =>
  ({
    name: "glaze-order",
    title: "Glaze order",
    trigger: "Every day at 07:00",
    version: 4,
    live: 2,
    lines: [{}, {}, {}],
    problems: [],
    ...over,
  }) as unknown as Workflow;

const ahead = (over: object = {}) => ({
  from: 2,
  trigger: "Every day at 07:00",
  limits: [],
  changes: [],
  writes: [],
  under_way: [],
  ...over,
});

const AHEAD = "GET /workflows/glaze-order/ahead";
const LIVE = "POST /workflows/glaze-order/live";

const opened = async (w: Workflow, answers: Record<string, unknown> = {}) => {
  const calls = serve({
    "GET /workflows/glaze-order": w,
    [AHEAD]: ahead(),
    [LIVE]: { ...w, live: 3 },
    ...answers,
  });
  const { where } = await show(<GoLive />, "/workflows/glaze-order/live");
  return { calls, where, go: await screen.findByRole<HTMLButtonElement>("button", { name: "Put it live" }) };
};

describe("going live", () => {
  it("tells what starts it, what changes, who gets something and what to expect, and goes live", async () => {
    const times = [{ at: "2026-11-28T07:00:00Z", wall: "Saturday 28 November 2026, 07:00" }];
    const { calls, go, where } = await opened(workflow(), {
      [AHEAD]: ahead({
        limits: ["At most 4 runs at once"],
        cadence: {
          sentence: "every day at 07:00",
          zone: "Europe/Lisbon",
          settings: {},
          a_week: 7,
          times,
          days: [
            { date: "2026-11-27", due: false },
            { date: "2026-11-28", due: true },
          ],
          clocks: "The clocks go forward on Sunday.",
          trouble: "1 row of readers cannot be read as an hour.",
        },
        a_month: 30,
        beside: [{ workflow: "gas-price", title: "The gas price", at: "2026-11-30T07:00:00Z" }],
        changes: [
          { kind: "changed", sentence: "Line 3 now holds back lots below 10 kg." },
          { kind: "added", sentence: "New: send a text" },
        ],
        writes: [
          { step: "told", number: "4", sentence: "Send a text", connection: "sms", new: true },
          { step: "kept", number: "5", sentence: "Add a row", new: false },
        ],
        lately: { runs: 12, items: 3.25, seconds: 1.5 },
        under_way: [
          { revision: 2, runs: 1 },
          { revision: 1, runs: 3 },
        ],
      }),
    });
    expect(screen.getByText("Every day at 07:00. At most 4 runs at once.")).toBeTruthy();
    expect(screen.getByText("Saturday 28 November 2026, 07:00")).toBeTruthy();
    expect(screen.getByText("The clocks go forward on Sunday.")).toBeTruthy();
    expect(screen.getByText("1 row of readers cannot be read as an hour.")).toBeTruthy();
    expect(document.querySelectorAll("svg[aria-hidden] path.fill-leaf")).toHaveLength(1);
    expect(screen.getByText("Sat").parentElement?.querySelector("path")).toBeTruthy();
    expect(screen.getByRole("region", { name: "Beside it" }).textContent).toContain("The gas price");
    expect(screen.getByRole("heading", { name: "What changes since revision 2" })).toBeTruthy();
    expect(screen.getByText("Line 3 now holds back lots below 10 kg.")).toBeTruthy();
    const gets = screen.getByRole("region", { name: "Who gets something" });
    expect(gets.textContent).toContain("Send a text, as smsnew");
    expect(gets.textContent).not.toContain("Add a rownew");
    expect(screen.getByRole("region", { name: "What to expect" }).textContent).toBe(
      "What to expectruns in thirty days30items a run3.3a run1.5 s",
    );
    expect(screen.getByText(/1 run of revision 2 has not ended; it finishes on revision 2/)).toBeTruthy();
    expect(screen.getByText(/3 runs of revision 1 have not ended/)).toBeTruthy();
    expect(screen.getByText(/Revision 2 stays at hand/)).toBeTruthy();
    await userEvent.click(go);
    await waitFor(() => {
      expect(where()).toBe("/workflows/glaze-order");
    });
    expect(calls.filter((c) => c.method === "POST")).toHaveLength(1);
  });

  it("asks what becomes of what was kept", async () => {
    const { calls, go } = await opened(workflow({ kept: 3 }));
    expect(screen.getByText("3 calls were kept while it was paused.")).toBeTruthy();
    expect(screen.getByText("say what becomes of what was kept")).toBeTruthy();
    expect(go.disabled).toBe(true);
    await userEvent.click(screen.getByLabelText(/They start runs now/));
    await userEvent.click(go);
    await waitFor(() => {
      expect(calls.at(-1)?.path).toContain("kept=start");
    });
  });

  it("lets the first run take five items only", async () => {
    const write = { number: "3", sentence: "Add a row" };
    const { calls, go } = await opened(workflow(), { [AHEAD]: ahead({ first_write: write }) });
    const first = screen.getByRole("checkbox", { name: /It takes the first 5 items on from line 3/ });
    await userEvent.click(first);
    await userEvent.click(go);
    await waitFor(() => {
      expect(calls.at(-1)?.path).toContain("first=5");
    });
    cleanup();
    const all = await opened(workflow(), { [AHEAD]: ahead({ first_write: write }) });
    await userEvent.click(all.go);
    await waitFor(() => {
      expect(all.calls.at(-1)?.path).not.toContain("first");
    });
    cleanup();
    await opened(workflow());
    expect(screen.queryByRole("region", { name: "The first run" })).toBeNull();
  });

  it("says that nothing changes and nobody gets anything, and what one does that was never live", async () => {
    await opened(workflow({ live: undefined }), {
      [AHEAD]: ahead({ from: undefined, lately: { runs: 4, items: 12, seconds: 0.02 } }),
    });
    expect(screen.getByRole("heading", { name: "What it will do" })).toBeTruthy();
    expect(screen.getByText("Nothing; the draft is the same.")).toBeTruthy();
    expect(screen.getByText("Nobody: it writes nothing outside.")).toBeTruthy();
    expect(screen.getByText("20 ms")).toBeTruthy();
    expect(screen.queryByText(/stays at hand/)).toBeNull();
  });

  it("makes up no figures of runs that did not come to their end", async () => {
    await opened(workflow(), { [AHEAD]: ahead({ lately: { runs: 1 } }) });
    expect(screen.getByRole("region", { name: "What to expect" }).textContent).toBe(
      "What to expectrun in the last thirty days1",
    );
  });

  it("waits for what is to mend", async () => {
    const problems = [{ severity: "error", message: "Line 2 has no list.", cure: "Choose one." }];
    const { go } = await opened(workflow({ problems }));
    expect(screen.getByRole("heading", { name: "To mend first" })).toBeTruthy();
    expect(screen.getByText("Line 2 has no list. Choose one.")).toBeTruthy();
    expect(go.disabled).toBe(true);
    expect(screen.queryByRole("checkbox")).toBeNull();
  });

  it("asks for a tick for each warning, and for one where there are many", async () => {
    const warning = (n: number) => ({ severity: "warning", message: `Warning ${String(n)}.`, cure: "" });
    const { go } = await opened(workflow({ problems: [warning(1), warning(2)] }));
    expect(screen.getByText("2 ticks are missing")).toBeTruthy();
    await userEvent.click(screen.getByRole("checkbox", { name: "Warning 1." }));
    expect(screen.getByText("one tick is missing")).toBeTruthy();
    expect(go.disabled).toBe(true);
    await userEvent.click(screen.getByRole("checkbox", { name: "Warning 2." }));
    expect(go.disabled).toBe(false);
    await userEvent.click(screen.getByRole("checkbox", { name: "Warning 1." }));
    expect(go.disabled).toBe(true);
    cleanup();
    const many = await opened(workflow({ problems: [1, 2, 3, 4, 5].map(warning) }));
    await userEvent.click(screen.getByRole("checkbox", { name: "I have looked at these 5" }));
    expect(many.go.disabled).toBe(false);
  });

  it("stays and says why where the service refuses, and goes back where nothing is wanted", async () => {
    const { go, where } = await opened(workflow(), {
      [LIVE]: new No(409, { type: "stale", title: "Tam has changed it since you read it." }),
    });
    await userEvent.click(go);
    expect(await screen.findByText(/Tam has changed it since you read it/)).toBeTruthy();
    await userEvent.click(screen.getByRole("button", { name: "Not yet" }));
    await waitFor(() => {
      expect(where()).toBe("/workflows/glaze-order");
    });
  });

  it("says why nothing can be told", async () => {
    serve({
      "GET /workflows/glaze-order": workflow(),
      [AHEAD]: new No(409, { type: "has_errors", title: "The draft cannot be read." }),
    });
    await show(<GoLive />, "/workflows/glaze-order/live");
    expect(await screen.findByText("The draft cannot be read.")).toBeTruthy();
  });
});
