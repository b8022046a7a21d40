// @vitest-environment jsdom
import { fireEvent, screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it, vi } from "vitest";
import type { Column, Kind, Line, Workflow } from "../api/client";
import type { Edit } from "../api/draft";
import { asBrowser, serve, show } from "../testing/kit";
import { CaseForm, named } from "./CaseForm";
import { Cases } from "./Cases";
import { Counts } from "./Counts";
import { Invitation } from "./Invitation";
import { LineFoot } from "./LineFoot";
import { Look } from "./Look";
import { Options } from "./Options";
import { TriggerForm } from "./TriggerForm";

asBrowser();

const line = (more: object = {}): Line =>
  ({
    name: "sent",
    type: "sms.send",
    sentence: "Send",
    kind: "write",
    number: "3",
    ...more,
  }) as unknown as Line;
const shared = { item: undefined, trigger: undefined, row: undefined, steps: [] };

async function options(more: Partial<Parameters<typeof Options>[0]> = {}) {
  const set = vi.fn();
  const onEdit = vi.fn();
  await show(
    <Options
      line={line()}
      options={{}}
      kind={undefined}
      writes
      fallback={false}
      set={set}
      onEdit={onEdit}
      {...more}
    />,
  );
  return { set, onEdit };
}

describe("what is seldom needed of a line", () => {
  it("says what goes on, under a name of its own", async () => {
    const { set } = await options();
    await userEvent.selectOptions(
      screen.getByLabelText("What goes on"),
      "the item, with the answer as a field",
    );
    expect(set).toHaveBeenLastCalledWith("output", "under sent");
    await userEvent.selectOptions(screen.getByLabelText("What goes on"), "the item as it came");
    expect(set).toHaveBeenLastCalledWith("output", "keep");
    document.body.innerHTML = "";
    const named = await options({ options: { output: "under answer" } });
    fireEvent.change(screen.getByLabelText("Name of the field"), { target: { value: "reply" } });
    fireEvent.blur(screen.getByLabelText("Name of the field"));
    expect(named.set).toHaveBeenLastCalledWith("output", "under reply");
  });

  it("says what becomes of an item that fails; other lines in its place come and go with it", async () => {
    const { set, onEdit } = await options();
    await userEvent.selectOptions(
      screen.getByLabelText("If it fails for an item"),
      "set the item aside and go on",
    );
    expect(set).toHaveBeenLastCalledWith("on_error", "set_aside");
    await userEvent.selectOptions(screen.getByLabelText("If it fails for an item"), "do other lines instead");
    expect(onEdit).toHaveBeenLastCalledWith([
      { op: "set", step: "sent", key: "on_error", value: "fallback" },
      { op: "set", step: "sent", key: "fallback", value: [] },
    ]);
    document.body.innerHTML = "";
    const has = await options({ options: { on_error: "fallback" }, fallback: true });
    await userEvent.selectOptions(screen.getByLabelText("If it fails for an item"), "stop the run");
    expect(has.onEdit).toHaveBeenLastCalledWith([{ op: "remove", step: "sent/fallback" }]);
  });

  it("of a list: what happens where there is nothing, and with what comes late", async () => {
    const gathers = {
      type: "gather",
      title: "",
      help: "",
      words: "",
      does: "holds",
      settings: [],
    } as unknown as Kind;
    const { set } = await options({ kind: gathers, writes: false, line: line({ type: "gather" }) });
    expect(screen.queryByLabelText("What goes on")).toBeNull();
    await userEvent.selectOptions(screen.getByLabelText("If no item comes"), "that is a failure");
    expect(set).toHaveBeenLastCalledWith("when_none", "fail");
    await userEvent.selectOptions(screen.getByLabelText(/come late/), "the list is made again with them");
    expect(set).toHaveBeenLastCalledWith("late", "again");
  });

  it("lets several items go at once, and takes a word to colleagues", async () => {
    const { set } = await options();
    fireEvent.change(screen.getByLabelText("Items at once"), { target: { value: "4" } });
    fireEvent.blur(screen.getByLabelText("Items at once"));
    expect(set).toHaveBeenLastCalledWith("parallel", 4);
    fireEvent.change(screen.getByLabelText("A word to colleagues"), { target: { value: "Ask Tove first." } });
    fireEvent.blur(screen.getByLabelText("A word to colleagues"));
    expect(set).toHaveBeenLastCalledWith("note", "Ask Tove first.");
  });
});

describe("the foot of a line", () => {
  it("renames it, switches it off, and opens what is seldom needed", async () => {
    const set = vi.fn();
    const onEdit = vi.fn();
    await show(<LineFoot line={line()} kind={undefined} writes fallback={false} set={set} onEdit={onEdit} />);
    await userEvent.clear(screen.getByLabelText("Name"));
    await userEvent.type(screen.getByLabelText("Name"), "texted{Enter}");
    expect(onEdit).toHaveBeenCalledWith([{ op: "rename", step: "sent", value: "texted" }]);
    await userEvent.click(screen.getByRole("button", { name: "Switch off" }));
    expect(set).toHaveBeenCalledWith("off", true);
    expect(screen.queryByLabelText("What goes on")).toBeNull();
    await userEvent.click(screen.getByRole("button", { name: "More…" }));
    expect(screen.getByLabelText("What goes on")).toBeTruthy();
  });
});

describe("how rows go through a line", () => {
  const column = (more: Partial<Column>): Column => ({ in: 8, out: 3, ...more }) as Column;
  const words = async (type: string, c: Partial<Column>) => {
    document.body.innerHTML = "";
    await show(<Counts line={line({ type })} column={column(c)} />);
    return document.body.textContent;
  };
  it("is said in a sentence of its kind", async () => {
    expect(await words("filter", {})).toBe("3 of 8 rows go on.");
    expect(await words("batch", {})).toBe("8 rows become 3.");
    expect(await words("spread", { in: 1, out: 12 })).toBe("1 row becomes 12.");
    expect(await words("loop", { rounds: 2 })).toBe("2 rounds.");
    expect(
      await words("branch", {
        ways: [
          { name: "very_hot", count: 2 },
          { name: "", count: 1 },
        ],
      } as Partial<Column>),
    ).toBe("very hot 2, none of them 1.");
    expect(await words("shape", {})).toBe("");
  });
});

describe("cases", () => {
  const cases = [
    line({
      name: "hot",
      type: "case",
      kind: "case",
      in: "branch",
      inside: "branch/hot",
      settings: { when: "item.cone > 6" },
    }),
  ];
  it("have a name and a condition each, and are added and taken away", async () => {
    serve({ "GET /functions": { functions: [] } });
    const onEdit = vi.fn<(e: Edit[]) => void>();
    await show(
      <Cases
        cases={cases}
        branch="branch"
        column={{ ways: [{ name: "hot", count: 4 }] } as unknown as Column}
        problems={[]}
        idOf={(k) => k}
        onEdit={onEdit}
        shared={shared}
      />,
    );
    expect(screen.getByText("4 rows")).toBeTruthy();
    await userEvent.clear(screen.getByLabelText("Name of case 1"));
    await userEvent.type(screen.getByLabelText("Name of case 1"), "Very hot!{Enter}");
    expect(onEdit).toHaveBeenLastCalledWith([{ op: "rename", step: "branch/hot", value: "very_hot" }]);
    await userEvent.click(screen.getByRole("button", { name: "Another case" }));
    expect(onEdit.mock.lastCall?.[0][0]).toMatchObject({ op: "insert", in: "branch", to: 1 });
    await userEvent.click(screen.getByRole("button", { name: "Remove case 1 and its lines" }));
    expect(onEdit).toHaveBeenLastCalledWith([{ op: "remove", step: "branch/hot" }]);
  });

  it("open by themselves, and say what comes into them", async () => {
    serve({ "GET /functions": { functions: [] } });
    const onEdit = vi.fn();
    const form = (l: Line) => <CaseForm line={l} problems={[]} count="4" shared={shared} onEdit={onEdit} />;
    await show(form(cases[0]!));
    fireEvent.change(screen.getByLabelText("Name of the case"), { target: { value: "Cold" } });
    fireEvent.blur(screen.getByLabelText("Name of the case"));
    expect(onEdit).toHaveBeenLastCalledWith([{ op: "rename", step: "branch/hot", value: "cold" }]);
    for (const [l, words] of [
      [line({ name: "else", type: "case", kind: "case" }), /no case holds come here/],
      [line({ type: "fallback", kind: "case" }), /for which the line above fails/],
      [line({ type: "on_failure", kind: "case" }), /done once when a run fails/],
    ] as const) {
      document.body.innerHTML = "";
      await show(form(l));
      expect(screen.getByText(words)).toBeTruthy();
    }
    expect(named("7 Größe & more")).toBe("gr_e_more");
  });
});

describe("what starts the workflow", () => {
  const kinds = {
    steps: [],
    limits: [
      {
        name: "one_at_a_time_by",
        required: false,
        schema: {
          type: "string",
          title: "One run at a time by",
          hint: "condition",
          part: "Limits of its runs",
        },
      },
      {
        name: "parallel_runs",
        required: false,
        schema: { type: "integer", title: "Runs at once", minimum: 1, part: "Limits of its runs" },
      },
    ],
    triggers: [
      {
        type: "webhook",
        title: "Something calls",
        help: "",
        words: "",
        settings: [
          {
            name: "key",
            required: false,
            schema: { type: "string", title: "Once for each", hint: "condition" },
          },
          {
            name: "verify",
            required: false,
            schema: { title: "The caller proves itself with", enum: ["bearer", "none"], default: "bearer" },
          },
        ],
      },
    ],
  };
  const workflow = {
    name: "calls",
    trigger_type: "webhook",
    called: true,
    trigger_settings: { key: "item.id" },
    problems: [
      { severity: "error", path: "trigger.settings.key", message: "It cannot be read.", line: 5, column: 2 },
    ],
    lines: [],
  } as unknown as Workflow;
  it("has a call sheet, its secret once, and the fields of its kind with what is wrong", async () => {
    const sheet = {
      address: "https://trellis.example/hooks/x",
      verify: "bearer",
      proof: "The secret comes in the header Authorization.",
      calls: [
        { in: "curl", text: "curl -X POST" },
        { in: "python", text: "import urllib.request" },
      ],
      answer: "202",
      secrets: [] as object[],
    };
    const made = (id: string) => ({ id, made: "2026-11-28T09:00:00Z", made_by: "Mara Quill" });
    const calls = serve({
      "GET /kinds": kinds,
      "GET /functions": { functions: [] },
      "GET /workflows/calls/hook": () => sheet,
      "POST /workflows/calls/hook": () => {
        sheet.secrets = [made(`s${String(sheet.secrets.length + 1)}`), ...sheet.secrets];
        return { id: `s${String(sheet.secrets.length)}`, secret: "shown once" };
      },
      "DELETE /workflows/calls/hook/secrets/s1": () => {
        sheet.secrets = sheet.secrets.slice(0, 1);
        return null;
      },
      "GET /workflows/calls/samples": { samples: [], taking: false, arrived: [] },
      "GET /runs": { runs: [] },
    });
    const onEdit = vi.fn();
    await show(<TriggerForm workflow={workflow} item={undefined} seen={undefined} onEdit={onEdit} />);
    expect(await screen.findByText("https://trellis.example/hooks/x")).toBeTruthy();
    expect(await screen.findByText(/It cannot be read./)).toBeTruthy();
    await userEvent.click(screen.getByRole("button", { name: "Make its secret" }));
    expect(await screen.findByText("shown once")).toBeTruthy();
    expect(screen.getByText("The secret comes in the header Authorization.")).toBeTruthy();
    await userEvent.click(screen.getByRole("button", { name: /A call, as a command/ }));
    expect(screen.getByText("curl -X POST")).toBeTruthy();
    await userEvent.click(screen.getByRole("button", { name: "Python" }));
    expect(screen.getByText("import urllib.request")).toBeTruthy();
    expect(await screen.findByRole("group", { name: "Secret 1" })).toBeTruthy();
    await userEvent.click(screen.getByRole("button", { name: "Make another" }));
    const first = await screen.findByRole("group", { name: "Secret 1" });
    expect(await screen.findByRole("group", { name: "Secret 2" })).toBeTruthy();
    expect(screen.queryByRole("button", { name: /^Make/ })).toBeNull();
    await userEvent.click(within(first).getByRole("button", { name: "End it" }));
    await waitFor(() => {
      expect(screen.queryByRole("group", { name: "Secret 2" })).toBeNull();
    });
    await userEvent.selectOptions(screen.getByLabelText("The caller proves itself with"), "none");
    expect(onEdit).toHaveBeenLastCalledWith([{ op: "trigger", key: "settings.verify", value: "none" }]);
    expect(calls.filter((c) => c.method === "POST")).toHaveLength(2);
    expect(calls.filter((c) => c.method === "DELETE")).toHaveLength(1);
  });
  it("has its limits in a part of their own, open where one is set or wrong", async () => {
    serve({
      "GET /kinds": kinds,
      "GET /functions": { functions: [] },
      "GET /workflows/calls/samples": { samples: [], taking: false, arrived: [] },
      "GET /runs": { runs: [] },
    });
    const onEdit = vi.fn();
    const shown = (more: object) =>
      show(
        <TriggerForm
          workflow={{ ...workflow, trigger_type: "manual", called: false, problems: [], ...more }}
          item={undefined}
          seen={undefined}
          onEdit={onEdit}
        />,
      );
    await shown({});
    const fold = await screen.findByRole("button", { name: /Limits of its runs/ });
    expect(fold.textContent).toContain("One run at a time by, Runs at once");
    expect(screen.queryByLabelText("Runs at once")).toBeNull();
    await userEvent.click(fold);
    await userEvent.type(screen.getByLabelText("Runs at once"), "3");
    await userEvent.tab();
    expect(onEdit).toHaveBeenLastCalledWith([{ op: "set", key: "limits.parallel_runs", value: 3 }]);
    document.body.replaceChildren();
    await shown({
      limits: { parallel_runs: 0 },
      problems: [
        { severity: "error", path: "limits.parallel_runs", message: "The least is 1.", line: 5, column: 2 },
      ],
    });
    expect(await screen.findByText(/The least is 1./)).toBeTruthy();
    await userEvent.clear(screen.getByLabelText("Runs at once"));
    await userEvent.tab();
    expect(onEdit).toHaveBeenLastCalledWith([{ op: "set", key: "limits.parallel_runs", value: null }]);
  });
});

describe("what to do next", () => {
  const w = (lines: Line[], type: string) =>
    ({ lines, trigger_type: type, alone: type === "manual", problems: [] }) as unknown as Workflow;
  it("is said where there are no rows", async () => {
    for (const [workflow, samples, words] of [
      [w([], "manual"), 0, /Add a first line on the left/],
      [w([line()], "webhook"), 0, /Take a sample first/],
      [w([line()], "webhook"), 2, /Rehearse to see every record/],
    ] as const) {
      document.body.innerHTML = "";
      await show(<Invitation workflow={workflow} samples={samples} />);
      expect(screen.getByText(words)).toBeTruthy();
    }
  });
  it("counts what is only to be filled in without alarm", async () => {
    const gap = { severity: "error", path: "steps[0]", message: "x", gap: true, line: 1, column: 1 };
    await show(
      <Look
        workflow={{ lines: [], problems: [gap, gap] } as unknown as Workflow}
        onChoose={() => undefined}
      />,
    );
    expect(screen.getByText("2 things to fill in before it can go live.")).toBeTruthy();
    document.body.innerHTML = "";
    await show(
      <Look workflow={{ lines: [], problems: [] } as unknown as Workflow} onChoose={() => undefined} />,
    );
    expect(document.body.textContent).toBe("");
  });
});
