// @vitest-environment jsdom
import { asBrowser, No, serve, show } from "../testing/kit";
import { screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import type { Connection, Connector, Workflow } from "../api/client";
import { Facts } from "../connections/Facts";
import { State } from "../connections/State";
import { GoLive } from "./GoLive";

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

const DIFF = "GET /workflows/glaze-order/diff";
const LIVE = "POST /workflows/glaze-order/live";

const opened = async (w: Workflow) => {
  await show(<GoLive workflow={w} />);
  await userEvent.click(screen.getByRole("button", { name: "Go live…" }));
  await waitFor(() => {
    expect(screen.queryByText("Looking at what changes")).toBeNull();
  });
  return screen.getByRole("button", { name: "Put it live" }) as HTMLButtonElement;
};

describe("going live", () => {
  it("tells what starts it and what changes, and goes live", async () => {
    const calls = serve({
      [DIFF]: { changes: [{ sentence: "Line 3 now holds back lots below 10 kg." }] },
      [LIVE]: { ...workflow(), live: 3 },
    });
    const go = await opened(workflow());
    expect(screen.getByText("Every day at 07:00, it runs from now on with these 3 lines.")).toBeTruthy();
    expect(screen.getByText("What changes since revision 2")).toBeTruthy();
    expect(await screen.findByText("Line 3 now holds back lots below 10 kg.")).toBeTruthy();
    await userEvent.click(go);
    await waitFor(() => {
      expect(screen.queryByRole("dialog")).toBeNull();
    });
    expect(calls.filter((c) => c.method === "POST")).toHaveLength(1);
  });

  it("cannot be agreed to before it is shown what changes", async () => {
    let known: (answer: unknown) => void = () => undefined;
    serve({ [DIFF]: () => new Promise((done) => (known = done)), [LIVE]: { ...workflow(), live: 3 } });
    await show(<GoLive workflow={workflow()} />);
    await userEvent.click(screen.getByRole("button", { name: "Go live…" }));
    const go = screen.getByRole<HTMLButtonElement>("button", { name: "Put it live" });
    expect(await screen.findByText("Looking at what changes")).toBeTruthy();
    expect(go.disabled).toBe(true);
    known({ changes: [] });
    await waitFor(() => {
      expect(go.disabled).toBe(false);
    });
  });

  it("says that nothing changes, and what one does that was never live", async () => {
    serve({ [DIFF]: { changes: [] } });
    await opened(workflow({ live: undefined }));
    expect(screen.getByText("What it will do")).toBeTruthy();
    expect(await screen.findByText("Nothing; the draft is the same.")).toBeTruthy();
  });

  it("waits for what is to mend", async () => {
    serve({ [DIFF]: { changes: [] } });
    const problems = [{ severity: "error", message: "Line 2 has no list.", cure: "Choose one." }];
    const go = await opened(workflow({ problems }));
    expect(screen.getByText("To mend first")).toBeTruthy();
    expect(screen.getByText("Line 2 has no list. Choose one.")).toBeTruthy();
    expect(go.disabled).toBe(true);
    expect(screen.queryByRole("checkbox")).toBeNull();
  });

  it("asks that warnings are looked at, each time anew", async () => {
    serve({ [DIFF]: { changes: [] } });
    const problems = [{ severity: "warning", message: "Nobody is told.", cure: "Name somebody." }];
    const go = await opened(workflow({ problems }));
    expect(go.disabled).toBe(true);
    await userEvent.click(screen.getByRole("checkbox", { name: "I have looked at this" }));
    expect(go.disabled).toBe(false);
    await userEvent.click(screen.getByRole("button", { name: "Not yet" }));
    await userEvent.click(screen.getByRole("button", { name: "Go live…" }));
    expect((screen.getByRole("button", { name: "Put it live" }) as HTMLButtonElement).disabled).toBe(true);
  });

  it("stays open and says why where the service refuses", async () => {
    serve({
      [DIFF]: { changes: [] },
      [LIVE]: new No(409, { type: "stale", title: "Tam has changed it since you read it." }),
    });
    const go = await opened(workflow());
    await userEvent.click(go);
    expect(await screen.findByText(/Tam has changed it since you read it/)).toBeTruthy();
    expect(screen.getByRole("dialog")).toBeTruthy();
  });
});

const connection = (over: Partial<Connection> = {}) =>
  ({
    state: "ok",
    missing: [],
    account: { address: "http://127.0.0.1:9/crm" },
    pin: "http://127.0.0.1:9",
    method: "key",
    used_by: [],
    grants: [],
    everyone: true,
    ...over,
  }) as unknown as Connection;

const connector = {
  account: [{ name: "address", schema: { title: "Address of the service" } }],
  limits: "30 calls a minute",
} as unknown as Connector;

describe("how a connection stands", () => {
  it.each<[Partial<Connection>, string]>([
    [{}, "Works"],
    [{ missing: ["orders"] as never }, "Lacks something"],
    [{ held_until: "2026-11-27T10:00:00Z" }, "Told to wait"],
    [{ state: "broken" }, "Does not work"],
    [{ state: "consent" }, "Not signed in"],
    [{ state: "confirm" }, "To confirm"],
    [{ state: "unchecked" as never }, "Not checked"],
  ])("%o is %s", async (over, words) => {
    await show(<State c={connection(over)} />);
    expect(screen.getByText(words)).toBeTruthy();
  });
});

describe("what is known of a connection", () => {
  const fact = (name: string) => screen.getByText(name, { selector: "dt" }).nextElementSibling?.textContent;

  it("is told in the words of its connector", async () => {
    await show(<Facts c={connection()} connector={connector} way={{ title: "A key" } as never} />);
    expect(fact("Address of the service")).toBe("http://127.0.0.1:9/crm");
    expect(fact("Signs in by")).toBe("A key");
    expect(fact("Secret")).toBe("kept, never shown");
    expect(fact("Used by")).toBe("nothing yet");
    expect(fact("Limit")).toBe("30 calls a minute, as the connector says");
    expect(fact("Builders")).toBe("every builder may use it");
    expect(fact("Last checked")).toBe("never");
    expect(screen.queryByText("Granted")).toBeNull();
  });

  it("is told where its connector is gone", async () => {
    await show(<Facts c={connection({ method: "none" })} connector={undefined} way={undefined} />);
    expect(fact("address")).toBe("http://127.0.0.1:9/crm");
    expect(fact("Signs in by")).toBe("none");
    expect(fact("Limit")).toBe("none known");
    expect(screen.queryByText("Secret")).toBeNull();
  });

  it("names those who may use it, what was granted and its limits", async () => {
    const c = connection({
      everyone: false,
      hint: "7f3a",
      grants: [
        { name: "Tam Ashdown", actions: ["read", "add"] },
        { email: "wren@ottermere.example" },
      ] as never,
      scopes: [],
      used_by: ["glaze-order", "memo-once"],
      limits: { calls: 1, seconds: 60, parallel: 2 } as never,
      checked: "2026-11-20T08:00:00Z",
      took_ms: 0,
    });
    await show(<Facts c={c} connector={connector} way={undefined} />);
    expect(fact("Secret")).toBe("ends in 7f3a");
    expect(fact("Granted")).toBe("nothing");
    expect(fact("Used by")).toBe("glaze-order, memo-once");
    expect(fact("Builders")).toBe("administrators, Tam Ashdown (read, add), wren@ottermere.example");
    expect(fact("Limit")).toBe("1 call in 60 s, 2 at once");
    expect(fact("Last checked")).toMatch(/, in 1 ms$/);
  });
});
