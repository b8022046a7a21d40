// @vitest-environment jsdom
import { cleanup, screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { beforeEach, describe, expect, it } from "vitest";
import { asBrowser, No, serve, show } from "../testing/kit";
import { Shell } from "../shell/Shell";
import { Connections } from "./Connections";
import { SignIn } from "./SignIn";
import { Start } from "./Start";
import { ToMend } from "./ToMend";
import { Workflows } from "./Workflows";

asBrowser();
beforeEach(() => {
  localStorage.clear();
});

const connection = (name: string, state: string, more: object = {}) => ({
  name,
  connector: "tables",
  connector_title: "Tables",
  method: "api_key",
  account: { address: "https://tables.example" },
  state,
  words: state === "ok" ? "Works, signed in as Ottermere" : "The key was refused: 401",
  pin: "https://tables.example",
  used_by: ["loads"],
  grants: [],
  everyone: true,
  missing: [],
  hint: "ab12",
  ...more,
});
const tables = {
  name: "tables",
  title: "Tables",
  about: "Workbooks",
  web: true,
  account: [{ name: "address", required: true, schema: { type: "string", title: "Address" } }],
  sign_in: [
    {
      method: "api_key",
      title: "A key",
      secrets: [{ name: "secret", title: "Key", required: true, shown: false }],
    },
  ],
  actions: [
    {
      name: "rows",
      title: "Read the rows",
      sentence: "",
      effect: "read",
      repeat: "safe",
      list: true,
      fields: [],
    },
    {
      name: "append",
      title: "Add a row",
      sentence: "",
      effect: "write",
      repeat: "keyed",
      list: false,
      fields: [],
    },
  ],
  limits: {},
};
const kinds = {
  steps: [],
  triggers: [
    { type: "webhook", title: "Something calls an address", help: "", words: "", called: true, settings: [] },
    {
      type: "manual",
      title: "Somebody starts it",
      help: "",
      words: "",
      alone: true,
      by_hand: true,
      settings: [],
    },
  ],
};

describe("the workflows", () => {
  it("of an empty workspace ask what should happen, and have doors", async () => {
    const calls = serve({
      "GET /workflows": { workflows: [] },
      "GET /connections": { connections: [] },
      "GET /kinds": kinds,
      "POST /workflows": { name: "note-every-call" },
    });
    const page = await show(<Workflows />, "/workflows");
    await userEvent.type(
      await screen.findByLabelText("What should happen?"),
      "Note every call: “Größe” & all",
    );
    expect(screen.getByText("Connected").getAttribute("aria-current")).toBe("step");
    await userEvent.click(screen.getByRole("button", { name: /Something calls me/ }));
    await waitFor(() => {
      expect(page.where()).toBe("/workflows/note-every-call?line=-");
    });
    const { document } = calls.find((c) => c.method === "POST")?.body as { document: string };
    expect(document).toContain("name: note-every-call-gro-e-all\n");
    expect(document).toContain('title: "Note every call: “Größe” & all"\n');
    expect(document).toContain("type: webhook\n");
  });

  it("are listed with their state and their last run", async () => {
    serve({
      "GET /workflows": {
        workflows: [
          {
            name: "loads",
            title: "Kiln loads",
            state: "live",
            live: 4,
            trigger: "When somebody starts it",
            steps: 5,
            errors: 1,
            last: { id: "r1", state: "failed", accepted: "2026-11-20T10:00:00Z", reason: "" },
          },
          { name: "idle", title: "Idle", state: "paused", trigger: "", steps: 0 },
        ],
      },
      "GET /kinds": kinds,
    });
    await show(<Workflows />, "/workflows");
    const row = (await screen.findByText("Kiln loads")).closest("tr");
    expect(within(row!).getByText("Live, revision 4")).toBeTruthy();
    expect(within(row!).getByText("Failed")).toBeTruthy();
    expect(within(row!).getByText("loads, 5 steps, 1 thing to mend")).toBeTruthy();
    expect(screen.getByText("never ran")).toBeTruthy();
  });

  it("are made with a title and what starts them; a name that is taken is said", async () => {
    serve({
      "GET /workflows": { workflows: [{ name: "a", title: "A", state: "draft", trigger: "" }] },
      "GET /kinds": kinds,
      "POST /workflows": new No(409, { type: "taken", title: "The name is taken. Choose another." }),
    });
    await show(<Workflows />, "/workflows");
    await userEvent.click(await screen.findByRole("button", { name: "New workflow" }));
    expect(screen.getByRole<HTMLButtonElement>("button", { name: "Make it" }).disabled).toBe(true);
    await userEvent.type(screen.getByLabelText("In a few words"), "Kiln loads");
    await userEvent.click(screen.getByLabelText(/Somebody starts it/));
    await userEvent.click(screen.getByRole("button", { name: "Make it" }));
    expect(await screen.findByText("The name is taken. Choose another.")).toBeTruthy();
    expect(screen.getByLabelText<HTMLInputElement>("In a few words").value).toBe("Kiln loads");
  });
});

describe("the door for who has a key", () => {
  it("goes on with an account that is there, reads, and makes a workflow of it", async () => {
    const calls = serve({
      "GET /kinds": kinds,
      "GET /connections": { connections: [connection("tables", "ok")] },
      "GET /connectors": { connectors: [tables] },
      "POST /try": {
        sent: { method: "GET", url: "https://tables.example/rows", prepared: false },
        status: 200,
        items: [{ piece: "Jug" }],
      },
      "POST /workflows": { name: "read-the-rows-tables" },
    });
    const page = await show(<Start />, "/start");
    await userEvent.click(await screen.findByText("Tables"));
    await userEvent.click(await screen.findByRole("button", { name: "Use tables" }));
    const actions = await screen.findByLabelText("Action");
    expect(within(actions).queryByText("Add a row")).toBeNull();
    await userEvent.click(screen.getByRole("button", { name: "Try it" }));
    await userEvent.click(await screen.findByRole("button", { name: "Make a workflow that begins with it" }));
    await waitFor(() => {
      expect(page.where()).toBe("/workflows/read-the-rows-tables");
    });
    expect((calls.at(-1)?.body as { document: string }).document).toContain(
      'steps: [{"name":"rows","type":"tables.rows","connection":"tables","input":{}}]',
    );
  });
});

describe("the connections", () => {
  const list = { connections: [connection("works", "ok"), connection("tables", "broken", { waiting: 3 })] };
  it("open what is broken first, and say what waits for it", async () => {
    serve({
      "GET /connections": list,
      "GET /connectors": { connectors: [tables] },
      "GET /connections/tables/calls": { calls: [] },
    });
    await show(<Connections />, "/connections");
    const detail = await screen.findByRole("region", { name: "tables" });
    expect(within(detail).getByText("The key was refused: 401.")).toBeTruthy();
    expect(within(detail).getByText(/3 runs wait for it, and go on when it works again/)).toBeTruthy();
    expect(within(detail).getByText("ends in ab12")).toBeTruthy();
    expect(await within(detail).findByRole("button", { name: "Mend" })).toBeTruthy();
  });

  it("are checked, limited, mended and removed", async () => {
    const calls = serve({
      "GET /connections": { connections: [connection("tables", "ok")] },
      "GET /connectors": { connectors: [tables] },
      "GET /connections/tables/calls": {
        calls: [
          {
            at: "2026-11-20T10:00:00Z",
            method: "GET",
            address: "https://tables.example/rows",
            status: 200,
            took_ms: 4,
          },
        ],
      },
      "POST /connections/tables/check": connection("tables", "ok"),
      "PUT /connections/tables/settings": connection("tables", "ok"),
      "DELETE /connections/tables": {},
    });
    await show(<Connections />, "/connections?connection=tables");
    await userEvent.click(await screen.findByRole("button", { name: "Check" }));
    await userEvent.click(screen.getByRole("button", { name: "Limits and builders" }));
    await userEvent.type(screen.getByLabelText("Calls"), "30");
    await userEvent.clear(screen.getByLabelText("in seconds"));
    await userEvent.type(screen.getByLabelText("in seconds"), "60");
    await userEvent.click(screen.getByLabelText("Every builder may use it"));
    await userEvent.type(screen.getByLabelText(/these people/), "tove@ottermere.example");
    await userEvent.click(screen.getByRole("button", { name: "Change it" }));
    await waitFor(() => {
      expect(calls.find((c) => c.method === "PUT")?.body).toEqual({
        everyone: false,
        limits: { calls: 30, seconds: 60, parallel: 0 },
        grants: [{ email: "tove@ottermere.example" }],
      });
    });
    await waitFor(() => {
      expect(screen.queryByRole("dialog")).toBeNull();
    });
    await userEvent.click(screen.getByRole("button", { name: "Remove" }));
    await waitFor(() => {
      expect(calls.some((c) => c.method === "DELETE")).toBe(true);
    });
    expect(calls.some((c) => c.path === "/connections/tables/check")).toBe(true);
  });

  it("say what to do where there is none, and what went wrong on the way back", async () => {
    serve({ "GET /connections": { connections: [] }, "GET /connectors": { connectors: [] } });
    await show(<Connections />, "/connections?trouble=denied");
    expect(await screen.findByText(/No account is connected yet/)).toBeTruthy();
    expect(screen.getByText(/Consent was refused on the other side's page/)).toBeTruthy();
  });

  it("show no words that somebody else wrote into the address", async () => {
    serve({ "GET /connections": { connections: [] }, "GET /connectors": { connectors: [] } });
    await show(<Connections />, "/connections?trouble=Your%20session%20was%20stolen.%20Call%20us");
    expect(await screen.findByText(/The sign-in did not succeed/)).toBeTruthy();
    expect(screen.queryByText(/stolen/)).toBeNull();
  });
});

describe("signing in", () => {
  it("opens the pages, and says what was not right", async () => {
    let good = false;
    const me = { name: "Mara", workspace: "Ottermere Clayworks", role: "owner", items: true };
    serve({
      "GET /session": () => (good ? me : null),
      "POST /session": () =>
        good ? me : new No(401, { type: "sign_in", title: "The address or the password is not right." }),
      "GET /items/groups": { total: 4, groups: [] },
    });
    await show(<Shell />, "/workflows");
    await userEvent.type(await screen.findByLabelText("Mail address"), "mara@ottermere.example");
    await userEvent.type(screen.getByLabelText("Password"), "wrong");
    await userEvent.click(screen.getByRole("button", { name: "Sign in" }));
    expect(await screen.findByText("The address or the password is not right.")).toBeTruthy();
    good = true;
    await userEvent.click(screen.getByRole("button", { name: "Sign in" }));
    const pages = await screen.findByRole("navigation", { name: "Pages" });
    expect(
      within(pages)
        .getAllByRole("link")
        .map((l) => l.textContent),
    ).toContain("Runs");
    expect(await within(pages).findByText("4")).toBeTruthy();
  });
  it("keeps what was typed", async () => {
    serve({});
    await show(<SignIn />);
    await userEvent.type(screen.getByLabelText("Mail address"), "mara@ottermere.example");
    await userEvent.type(screen.getByLabelText("Password"), "x");
    await userEvent.click(screen.getByRole("button", { name: "Sign in" }));
    await screen.findByRole("alert");
    expect(screen.getByLabelText<HTMLInputElement>("Mail address").value).toBe("mara@ottermere.example");
  });
});

describe("signing out", () => {
  const here = { "GET /session": { name: "Mara", workspace: "Ottermere Clayworks", role: "owner" } };
  const leave = async (answer: unknown) => {
    serve({
      ...here,
      "GET /items/groups": { total: 0, groups: [] },
      "GET /connections": { connections: [] },
      "DELETE /session": answer,
    });
    const page = await show(<Shell />, "/runs/r1");
    await userEvent.click(await screen.findByRole("button", { name: "Sign out" }));
    return page;
  };

  it("says that one is still signed in where the service did not end the session", async () => {
    const page = await leave(new No(503, { type: "away", title: "The database cannot be reached." }));
    expect(
      await screen.findByText(/You are still signed in\. The database cannot be reached\./),
    ).toBeTruthy();
    expect(page.where()).toBe("/runs/r1");
  });

  it("leaves where the session had ended already", async () => {
    const page = await leave(new No(401, { type: "sign_in", title: "Sign in first." }));
    await waitFor(() => {
      expect(page.where()).toBe("/workflows");
    });
  });
});

describe("find", () => {
  it("opens by its keys, finds by a few letters, and goes to the very thing", async () => {
    serve({
      "GET /session": { name: "Mara", workspace: "Ottermere Clayworks", role: "owner" },
      "GET /items/groups": { total: 0, groups: [] },
      "GET /workflows": { workflows: [{ name: "loads", title: "Kiln loads" }] },
      "GET /runs": {
        runs: [
          {
            id: "r1",
            label: "Tall jug",
            title: "Kiln loads",
            accepted: "2026-11-20T10:00:00Z",
            state: "failed",
          },
        ],
      },
      "GET /connections": { connections: [connection("tables", "ok")] },
    });
    const page = await show(<Shell />, "/workflows");
    await screen.findByRole("navigation", { name: "Pages" });
    await userEvent.keyboard("{Control>}k{/Control}");
    await userEvent.type(await screen.findByPlaceholderText(/A workflow, a run/), "tall");
    await userEvent.keyboard("{Enter}");
    await waitFor(() => {
      expect(page.where()).toBe("/runs/r1");
    });
    cleanup();
    const again = await show(<Shell />, "/workflows");
    await screen.findByRole("navigation", { name: "Pages" });
    await userEvent.keyboard("{Control>}k{/Control}");
    await userEvent.type(await screen.findByPlaceholderText(/A workflow, a run/), "tables");
    await userEvent.keyboard("{Enter}");
    await waitFor(() => {
      expect(again.where()).toBe("/connections?connection=tables");
    });
  });
});

describe("what is to be mended", () => {
  it("says that nothing waits, or groups it by what it came to", async () => {
    serve({ "GET /items/groups": { total: 0, groups: [] } });
    await show(<ToMend />, "/mend");
    expect(await screen.findByText(/Nothing waits for anybody/)).toBeTruthy();
  });
  it("opens a group to its items, and dismisses it with a way back", async () => {
    const group = {
      workflow: "calls",
      title: "Calls at the counter",
      step: "studio",
      sentence: "Find or make a studio",
      kind: "set_aside",
      alike: "a",
      why: "The number is none.",
      items: 3,
      runs: 2,
      first: "2026-11-19T10:00:00Z",
      last: "2026-11-20T10:00:00Z",
    };
    const calls = serve({
      "GET /items/groups": { total: 3, groups: [group] },
      "GET /items": { items: [] },
      "POST /items/dismiss": { items: 3 },
    });
    await show(<ToMend />, "/mend");
    const card = await screen.findByRole("region", { name: /The number is none/ });
    expect(within(card).getByText("The number is none.", { exact: false })).toBeTruthy();
    await userEvent.click(within(card).getByRole("button", { name: /Dismiss/ }));
    await waitFor(() => {
      expect(calls.some((c) => c.path.startsWith("/items/dismiss"))).toBe(true);
    });
  });
});
