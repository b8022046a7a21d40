// @vitest-environment jsdom
import { fireEvent, screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { beforeEach, describe, expect, it } from "vitest";
import type { Rehearsal, Workflow } from "../api/client";
import { asBrowser, No, serve, show, type Call } from "../testing/kit";
import { Workbench } from "../pages/Workbench";

asBrowser();
beforeEach(() => {
  localStorage.clear();
  sessionStorage.clear();
  window.history.replaceState({}, "", "/");
});

const step = (name: string, type: string, sentence: string, more: object = {}) => ({
  name,
  type,
  sentence,
  kind: type === "filter" ? "filter" : "read",
  text: `- name: ${name}\n`,
  ...more,
});

let n = 0;
/** A workflow of its own for each test: what was typed in a browser is kept by name. */
const draft = (more: Partial<Workflow> = {}): Workflow =>
  ({
    name: `loads-${String(n)}`,
    title: "Kiln loads",
    state: "draft",
    version: 3,
    document: "name: loads\n",
    trigger: "When somebody starts it",
    trigger_type: "manual",
    alone: true,
    changed: 0,
    updated: "2026-11-20T10:00:00Z",
    problems: [],
    lines: [
      step("pieces", "tables.rows", "Read the rows of Pieces", {
        number: "1",
        connection: "tables",
        settings: { tab: "Pieces" },
      }),
      step("dry", "filter", "Keep items where dry is at least 6", {
        number: "2",
        settings: { where: "item.dry >= 6" },
      }),
      step("sent", "sms.send", "Send a text message", { number: "3", settings: {}, kind: "write" }),
    ],
    ...more,
  }) as unknown as Workflow;

const rehearsal = (more: Partial<Rehearsal> = {}): Rehearsal =>
  ({
    made: "2026-11-20T10:00:00Z",
    version: 3,
    state: "succeeded",
    prepared: 1,
    counts: {},
    items: [{}],
    columns: ["pieces", "dry", "sent"].map((name, i) => ({
      name,
      sentence: name,
      number: i + 1,
      line: String(i + 1),
      kind: i === 2 ? "write" : i === 0 ? "read" : "filter",
      in: i === 0 ? 1 : 2,
      out: 2,
      calls: i === 0 ? 1 : 0,
      lists: i === 0,
      held_back: 0,
      set_aside: 0,
    })),
    rows: [
      { piece: "Tall jug", dry: 8 },
      { piece: "Moon jar", dry: 7 },
    ].map((fields, i) => ({
      row: i + 1,
      address: `0-1.${String(i)}`,
      label: fields.piece,
      cells: [
        { fate: "read", text: fields.piece, fields },
        { fate: "passed", text: `${String(fields.dry)} days`, fields },
        {
          fate: "prepared",
          text: "to the hall",
          fields: { sent: true },
          sent: { method: "POST", url: "https://sms.example/send", body: "{}", prepared: true },
        },
      ],
    })),
    ...more,
  }) as unknown as Rehearsal;

const kinds = {
  steps: [
    {
      type: "filter",
      title: "Keep only some items",
      help: "",
      words: "filter only",
      does: undefined,
      settings: [
        { name: "where", required: true, schema: { title: "Keep an item where", hint: "condition" } },
      ],
    },
  ],
  triggers: [
    { type: "manual", title: "Somebody starts it", help: "", words: "", settings: [] },
    { type: "webhook", title: "Something calls an address", help: "", words: "", settings: [] },
  ],
};
const connectors = [
  {
    name: "sms",
    title: "Text messages",
    about: "",
    web: true,
    account: [],
    sign_in: [{ method: "api_key", title: "A key", secrets: [] }],
    actions: [
      {
        name: "send",
        title: "Send a text message",
        sentence: "Send a text message",
        effect: "write",
        repeat: "keyed",
        list: false,
        fields: [
          { name: "piece", required: true, schema: { type: "string", title: "Piece" } },
          { name: "dry", required: true, schema: { type: "integer", title: "Days dry" } },
        ],
      },
    ],
  },
];

/** The page with a service around it, whose draft is what was saved last. */
async function bench(w: Workflow, more: Record<string, unknown> = {}, at = "") {
  let now = w;
  const base = `/workflows/${w.name}`;
  const saved = (c: Call) => {
    now = { ...now, version: now.version + 1, document: `${now.document}# ${String(now.version)}\n` };
    const body = c.body as { document?: string };
    if (body.document !== undefined) now = { ...now, document: body.document };
    return now;
  };
  const calls = serve({
    [`GET ${base}`]: () => now,
    [`GET ${base}/rehearsal`]: rehearsal(),
    [`GET ${base}/samples`]: { samples: [], taking: false, arrived: [] },
    [`GET ${base}/start`]: { trigger: "", alone: true, fields: [], schema: {} },
    [`POST ${base}/draft`]: saved,
    [`PUT ${base}/draft`]: saved,
    [`POST ${base}/draft/plan`]: { followed: 0, problems: [] },
    [`POST ${base}/rehearsal/follow`]: () => rehearsal({ version: now.version, prepared: 0 }),
    [`POST ${base}/rehearsal`]: () => rehearsal({ version: now.version, made: "2026-11-20T11:00:00Z" }),
    [`POST ${base}/pause`]: () => (now = { ...now, state: "paused" }),
    "GET /kinds": kinds,
    "GET /connectors": { connectors },
    "GET /connections": { connections: [] },
    "GET /functions": { functions: [] },
    "POST /evaluate": { text: "8", value: 8 },
    ...more,
  });
  n++;
  window.history.replaceState({}, "", `${base}${at}`);
  const page = await show(<Workbench />, `${base}${at}`);
  await screen.findByRole("tree");
  return {
    calls,
    ...page,
    did: (method: string, path: string) => calls.filter((c) => c.method === method && c.path === base + path),
  };
}
const line = (words: string) => screen.getByRole("treeitem", { name: new RegExp(words) });
const open = async (words: string) => {
  await userEvent.click(within(line(words)).getAllByRole("button")[0]!);
};

describe("the bench", () => {
  it("opens a line from the address, and keeps the opened one there", async () => {
    const b = await bench(draft(), {}, "?line=dry");
    expect(line("Keep items").getAttribute("aria-selected")).toBe("true");
    await open("Read the rows");
    await waitFor(() => {
      expect(b.where()).toContain("line=pieces");
    });
    await open("Read the rows");
    await waitFor(() => {
      expect(b.where()).not.toContain("line=");
    });
  });

  it("sends what is chosen with what was seen there, and the rows follow before it is saved", async () => {
    const b = await bench(draft(), {}, "?line=dry");
    await screen.findByText("Rows from the last rehearsal");
    await userEvent.click(screen.getByRole("button", { name: "Switch off" }));
    expect(screen.getByText("Saving…")).toBeTruthy();
    expect(b.did("POST", "/rehearsal/follow")[0]?.body).toEqual({
      edits: [{ op: "set", step: "dry", key: "off", value: true, seen: {} }],
    });
    await screen.findByText("Draft saved", {}, { timeout: 2000 });
    expect(b.did("POST", "/draft")[0]?.body).toEqual({
      edits: [{ op: "set", step: "dry", key: "off", value: true, seen: {} }],
    });
    expect(await screen.findByText(/Rows of the draft/)).toBeTruthy();
    expect(screen.getByText(/Nothing was read anew/)).toBeTruthy();
  });

  it("undoes and does again in view", async () => {
    const b = await bench(draft());
    expect(screen.getByRole<HTMLButtonElement>("button", { name: "Undo" }).disabled).toBe(true);
    fireEvent.change(screen.getByLabelText("Title"), { target: { value: "Loads of tomorrow" } });
    fireEvent.blur(screen.getByLabelText("Title"));
    await waitFor(
      () => {
        expect(screen.getByRole<HTMLButtonElement>("button", { name: "Undo" }).disabled).toBe(false);
      },
      { timeout: 2000 },
    );
    await userEvent.click(screen.getByRole("button", { name: "Undo" }));
    await waitFor(() => {
      expect(b.did("PUT", "/draft")[0]?.body).toEqual({ document: "name: loads\n" });
    });
    await waitFor(() => {
      expect(screen.getByRole<HTMLButtonElement>("button", { name: "Redo" }).disabled).toBe(false);
    });
    await userEvent.click(screen.getByRole("button", { name: "Redo" }));
    await waitFor(() => {
      expect(b.did("PUT", "/draft")).toHaveLength(2);
    });
  });

  it("shows both versions where somebody else was faster, and takes the one that is chosen", async () => {
    const b = await bench(
      draft({ changed_by: "Tove" }),
      {
        [`POST /workflows/loads-${String(n)}/draft`]: new No(409, {
          type: "changed_since",
          title: "Tove has changed the same in between.",
        }),
      },
      "?line=dry",
    );
    await userEvent.click(screen.getByRole("button", { name: "Switch off" }));
    const dialog = await screen.findByRole("dialog", {}, { timeout: 2000 });
    expect(dialog.textContent).toContain("Tove has changed the same");
    expect(dialog.textContent).toContain("Line 2");
    await userEvent.click(within(dialog).getByRole("button", { name: "Leave Tove’s" }));
    expect(screen.queryByRole("dialog")).toBeNull();
    expect(b.did("POST", "/draft")).toHaveLength(1);
  });

  it("moves among lines by keys, and takes them away with a way back", async () => {
    const b = await bench(draft());
    within(line("Read the rows")).getAllByRole("button")[0]!.focus();
    await userEvent.keyboard("{ArrowDown}");
    expect(line("Keep items").contains(document.activeElement)).toBe(true);
    await userEvent.keyboard("{ArrowRight}");
    expect(line("Keep items").getAttribute("aria-selected")).toBe("true");
    await userEvent.keyboard("{ArrowLeft}");
    expect(line("Keep items").getAttribute("aria-selected")).toBe("false");
    await userEvent.keyboard("{Home}");
    expect(line("When somebody").contains(document.activeElement)).toBe(true);
    await userEvent.keyboard("{End}");
    expect(line("Send a text").contains(document.activeElement)).toBe(true);
    await userEvent.keyboard("{Delete}");
    await waitFor(() => {
      expect(b.did("POST", "/draft")[0]?.body).toEqual({ edits: [{ op: "remove", step: "sent" }] });
    });
    await userEvent.keyboard("?");
  });

  it("tells first what a removal would break", async () => {
    const w = draft();
    const b = await bench(w, {
      [`POST /workflows/${w.name}/draft/plan`]: {
        followed: 0,
        problems: [
          {
            severity: "error",
            path: "steps[2]",
            step: "sent",
            message: "There is no step dry.",
            line: 9,
            column: 1,
          },
        ],
      },
    });
    within(line("Keep items")).getAllByRole("button")[0]!.focus();
    await userEvent.keyboard("{Delete}");
    const dialog = await screen.findByRole("dialog");
    expect(dialog.textContent).toContain("Line 3, Send a text message: There is no step dry.");
    await userEvent.click(within(dialog).getByRole("button", { name: "Leave it as it is" }));
    expect(b.did("POST", "/draft")).toHaveLength(0);
  });

  it("has everything that can be done with a line in its menu", async () => {
    const b = await bench(draft());
    await userEvent.click(screen.getByRole("button", { name: "What to do with line 2" }));
    const words = screen.getAllByRole("menuitem").map((m) => m.textContent);
    for (const w of [
      "Add a line below",
      "Duplicate",
      "Copy",
      "Cut",
      "Paste below",
      "Move up",
      "Move down",
      "Switch off",
      "Remove",
    ])
      expect(words.some((x) => x.startsWith(w))).toBe(true);
    await userEvent.click(screen.getByRole("menuitem", { name: /Move up/ }));
    await waitFor(() => {
      expect(b.did("POST", "/draft")[0]?.body).toEqual({
        edits: [{ op: "move", step: "dry", in: "/", to: 0 }],
      });
    });
  });

  it("suggests what fits by name, all at once, and asks for the account that is missing", async () => {
    const b = await bench(draft(), {}, "?line=sent");
    expect(await screen.findByRole("button", { name: "Connect Text messages" })).toBeTruthy();
    expect(screen.getByText("There is no account of Text messages yet.")).toBeTruthy();
    await userEvent.click(await screen.findByRole("button", { name: "take all 2" }));
    await waitFor(() => {
      expect(b.did("POST", "/draft")[0]?.body).toEqual({
        edits: [
          { op: "set", step: "sent", key: "input.piece", value: "(= item.piece )" },
          { op: "set", step: "sent", key: "input.dry", value: "(= item.dry )" },
        ],
      });
    });
  });

  it("shows the requests that would go out, and what stands in a row", async () => {
    await bench(draft());
    await screen.findByText("Nothing was sent.");
    await userEvent.click(screen.getByRole("button", { name: "Show them" }));
    expect(screen.getAllByText(/POST https:\/\/sms.example\/send/).length).toBeGreaterThan(0);
    await userEvent.click(screen.getByRole("button", { name: "Hide them" }));
    expect(screen.queryByText(/row 1, sent/)).toBeNull();
  });

  it("says what is to be looked at, and goes to it", async () => {
    await bench(
      draft({
        problems: [
          {
            severity: "error",
            path: "steps[1].settings.where",
            step: "dry",
            message: "It cannot be read.",
            line: 7,
            column: 3,
          },
          {
            severity: "error",
            path: "steps[2].input.dry",
            step: "sent",
            message: "Days dry is required.",
            gap: true,
            line: 9,
            column: 3,
          },
        ],
      }),
    );
    expect(screen.getByText("One thing to look at.")).toBeTruthy();
    expect(screen.getByText(/Line 2: It cannot be read./)).toBeTruthy();
    await userEvent.click(screen.getByRole("button", { name: "Show" }));
    expect(line("Keep items").getAttribute("aria-selected")).toBe("true");
    expect(screen.getAllByText("It cannot be read.", { exact: false }).length).toBeGreaterThan(1);
  });

  it("leads to the page of going live", async () => {
    const w = draft();
    const b = await bench(w);
    expect(screen.getByLabelText("How far it is")).toBeTruthy();
    await userEvent.click(screen.getByRole("link", { name: "Go live…" }));
    await waitFor(() => {
      expect(b.where()).toBe(`/workflows/${w.name}/live`);
    });
  });

  it("is paused, goes on, and goes back to the revision before", async () => {
    const standing = { words: "Next", at: "2026-11-30T16:30:00Z", trouble: false };
    const w = draft({ live: 3, state: "live", standing } as Partial<Workflow>);
    const base = `/workflows/${w.name}`;
    const b = await bench(w, {
      [`POST ${base}/unpause`]: { ...w, standing: { ...standing, words: "Next again" } },
      [`POST ${base}/revisions/2/live`]: { ...w, live: 2 },
    });
    expect(screen.getByText(/^Next .*30/)).toBeTruthy();
    await userEvent.click(screen.getByRole("button", { name: "Pause" }));
    expect(await screen.findByText("Paused")).toBeTruthy();
    await userEvent.click(screen.getByRole("button", { name: "Let it go on" }));
    expect(await screen.findByText(/^Next again/)).toBeTruthy();
    await userEvent.click(screen.getByRole("button", { name: "Back to revision 2" }));
    expect(await screen.findByText("Live, revision 2")).toBeTruthy();
    expect(b.did("POST", "/revisions/2/live")).toHaveLength(1);
  });

  it("asks what becomes of calls that were kept while it was paused", async () => {
    const w = draft({ live: 3, state: "paused", kept: 1 } as Partial<Workflow>);
    const base = `/workflows/${w.name}`;
    const b = await bench(w, { [`POST ${base}/unpause`]: { ...w, state: "live", kept: undefined } });
    await userEvent.click(screen.getByRole("button", { name: "Let it go on" }));
    expect(await screen.findByText(/1 call was kept while it was paused/)).toBeTruthy();
    expect(b.did("POST", "/unpause")).toHaveLength(0);
    await userEvent.click(screen.getByRole("button", { name: "Start it" }));
    expect(await screen.findByText("Live, revision 3")).toBeTruthy();
    expect(b.did("POST", "/unpause?kept=start")).toHaveLength(1);
  });

  it("starts at once where nothing is asked for", async () => {
    const w = draft({ live: 1, state: "live" } as Partial<Workflow>);
    const b = await bench(w, { [`POST /workflows/${w.name}/start`]: { run: "r1", runs: 1 } });
    await userEvent.click(await screen.findByRole("button", { name: "Start" }));
    await waitFor(() => {
      expect(b.where()).toBe("/runs/r1");
    });
  });

  it("asks before it starts what is paused", async () => {
    const w = draft({ live: 1, state: "paused" } as Partial<Workflow>);
    const b = await bench(w, {
      [`POST /workflows/${w.name}/start`]: (c: Call) =>
        (c.body as { while_paused?: boolean }).while_paused
          ? { run: "r1", runs: 1 }
          : new No(409, { type: "paused", title: "It is paused." }),
    });
    await userEvent.click(await screen.findByRole("button", { name: "Start" }));
    await userEvent.click(await screen.findByRole("button", { name: "Leave it" }));
    expect(screen.queryByText(/it stays paused/)).toBeNull();
    await userEvent.click(screen.getByRole("button", { name: "Start" }));
    await userEvent.click(await screen.findByRole("button", { name: "Start it all the same" }));
    await waitFor(() => {
      expect(b.where()).toBe("/runs/r1");
    });
  });

  it("rehearses to the end or to a line, and invites to where there are no rows", async () => {
    const w = draft();
    let answer: unknown;
    const b = await bench(
      w,
      {
        [`GET /workflows/${w.name}/rehearsal`]: new No(404, { type: "not_found", title: "none" }),
        [`POST /workflows/${w.name}/rehearsal`]: (c: Call) => {
          answer = c.body;
          return rehearsal();
        },
      },
      "?line=dry",
    );
    expect(await screen.findByText(/Rehearse to see every record/)).toBeTruthy();
    await userEvent.click(screen.getByRole("button", { name: "Rehearse to here" }));
    await screen.findByText("Rows from the last rehearsal");
    expect(answer).toEqual({ to: "dry" });
    await userEvent.click(screen.getByRole("button", { name: "Rehearse" }));
    await waitFor(() => {
      expect(answer).toEqual({});
    });
    expect(b.did("POST", "/rehearsal")).toHaveLength(2);
  });
});
