// @vitest-environment jsdom
import { cleanup, screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import type { Mending } from "../api/mending";
import { asBrowser, No, serve, show, type Call } from "../testing/kit";
import { MendActions } from "./MendActions";
import { MendButton } from "./MendButton";
import { Progress } from "./Progress";

asBrowser();

const mending = (more: Partial<Mending> = {}): Mending =>
  ({
    id: "m1",
    what: "retry",
    state: "ended",
    items: 40,
    runs: 2,
    begun: 40,
    done: 38,
    again: 2,
    refused: [],
    ...more,
  }) as Mending;
const plan = {
  items: 40,
  runs: 2,
  looked: 2,
  steps: [{ workflow: "calls", step: "sent", sentence: "Send a text", writes: true, count: 40 }],
  changes: ["Line 3 is another."],
};

describe("mending", () => {
  it("tells first what would happen, and does it with a word on how far it is", async () => {
    const calls = serve({
      "POST /mendings/plan": plan,
      "POST /mendings": mending({ state: "going", begun: 12 }),
      "GET /mendings/m1": mending({ state: "ended" }),
    });
    await show(<MendButton wish={{ what: "retry", where: { workflow: "calls" } }} words="Retry 40" />);
    await userEvent.click(screen.getByRole("button", { name: "Retry 40" }));
    const dialog = await screen.findByRole("dialog");
    await waitFor(() => {
      expect(within(dialog).getByRole<HTMLButtonElement>("button", { name: "Do it" }).disabled).toBe(false);
    });
    expect(dialog.textContent).toContain("40 items are sent by Send a text");
    expect(dialog.textContent).toContain("Line 3 is another.");
    expect(calls.some((c) => c.path === "/mendings")).toBe(false);
    await userEvent.click(within(dialog).getByRole("button", { name: "Do it" }));
    expect(await screen.findByText("38 items went on, 2 still waiting.")).toBeTruthy();
    expect(calls.find((c) => c.path === "/mendings")?.body).toEqual({
      what: "retry",
      where: { workflow: "calls" },
    });
    await userEvent.click(screen.getByRole("button", { name: "Close" }));
    expect(screen.queryByRole("dialog")).toBeNull();
  });

  it("is not begun where nothing is left to do, or the service says no", async () => {
    serve({ "POST /mendings/plan": { ...plan, items: 0 } });
    await show(<MendButton wish={{ what: "retry" }} words="Retry" />);
    await userEvent.click(screen.getByRole("button", { name: "Retry" }));
    await screen.findByRole("dialog");
    await waitFor(() => {
      expect(screen.queryByText("Looking at what would happen…")).toBeNull();
    });
    expect(screen.getByRole<HTMLButtonElement>("button", { name: "Do it" }).disabled).toBe(true);
    cleanup();
    serve({
      "POST /mendings/plan": new No(409, { type: "busy", title: "Another mending of these is under way." }),
    });
    await show(<MendButton wish={{ what: "retry" }} words="Retry" />);
    await userEvent.click(screen.getByRole("button", { name: "Retry" }));
    expect(await screen.findByText("Another mending of these is under way.")).toBeTruthy();
  });

  it("is ended half-way, and says which runs were refused", async () => {
    const calls = serve({
      "POST /mendings/m1/cancel": mending({ state: "cancelling" }),
      "DELETE /mendings/m1": mending(),
    });
    await show(
      <Progress
        mending={mending({
          state: "going",
          begun: 12,
          refused: [{ run: "01a21c8e-4f10", message: "Its workflow is gone." }] as Mending["refused"],
        })}
      />,
    );
    const bar = screen.getByRole("progressbar", { name: "How far it is" });
    expect(bar.getAttribute("aria-valuenow")).toBe("12");
    expect(screen.getByText("Run 01a21c8e: Its workflow is gone.")).toBeTruthy();
    await userEvent.click(screen.getByRole("button", { name: "End it half-way" }));
    await waitFor(() => {
      expect(calls).toHaveLength(1);
    });
  });

  it("words how it ended", async () => {
    await show(<Progress mending={mending({ state: "cancelled", done: 1, again: 39 })} />);
    expect(screen.getByText("Ended half-way: 1 item went on, 39 still waiting.")).toBeTruthy();
    cleanup();
    await show(<Progress mending={undefined} />);
    expect(screen.getByText("Beginning…")).toBeTruthy();
  });

  it("of one item: tried again, with other fields, or let be", async () => {
    const calls = serve({ "POST /items/dismiss": (c: Call) => c.body });
    await show(<MendActions run="r1" address="1" kind="set_aside" fields={{ number: "+44" }} />);
    expect(screen.getByRole("button", { name: "Retry this one" })).toBeTruthy();
    await userEvent.click(screen.getByRole("button", { name: "Dismiss" }));
    await waitFor(() => {
      expect(calls[0]?.body).toEqual({ items: [{ run: "r1", address: "1" }] });
    });
    cleanup();
    await show(<MendActions run="r1" address="1" kind="may_have_been_sent" fields={{}} />);
    expect(screen.getByRole("button", { name: "It was done" })).toBeTruthy();
    expect(screen.getByRole("button", { name: "Send it again" })).toBeTruthy();
    expect(screen.queryByRole("button", { name: "Dismiss" })).toBeNull();
  });
});
