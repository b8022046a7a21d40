import { useMutation, useQueryClient } from "@tanstack/react-query";
import { ask, http, Refusal, type Json, type Schemas, type Workflow } from "./client";
import { History } from "./history";
import { Renames } from "./renames";

export interface Edit {
  op: string;
  step?: string;
  key?: string;
  in?: string;
  to?: number;
  value?: Json;
  seen?: { value?: Json }; // what stood there, so that it is not lost on somebody else
}

const histories = new Map<string, History>();
const renames = new Map<string, Renames>();

/** The new names of a draft's lines. */
export function renamesOf(workflow: string): Renames {
  const known = renames.get(workflow) ?? new Renames();
  renames.set(workflow, known);
  return known;
}

/** Whether a draft has a line of this name, or a case as STEP/CASE. */
export const has = (w: Workflow | undefined) => (key: string) =>
  w?.lines.some((l) => (l.kind === "case" ? l.inside === key : l.name === key)) ?? false;

const shelf = (workflow: string) => `undo ${workflow}`;

/** What was done to a workflow's draft in this browser, to be undone; also before the page was loaded anew. */
export function historyOf(workflow: string, now?: Workflow): History {
  const known = histories.get(workflow);
  if (known) return known;
  if (!now) return new History();
  let kept = new History();
  try {
    const text = localStorage.getItem(shelf(workflow));
    if (text !== null) kept = History.read(text, now.document, now.version);
  } catch {
    // A browser that keeps nothing.
  }
  histories.set(workflow, kept);
  return kept;
}

function keep(history: History, w: Workflow): void {
  try {
    localStorage.setItem(shelf(w.name), history.write(w.document));
  } catch {
    // There is no room: what was done before this page was loaded can then not be undone.
  }
}

/** Changes to a draft, one after the other: edits, the whole text, and the way back. */
export function useDraft(workflow: string) {
  const client = useQueryClient();
  const now = () => client.getQueryData<Workflow>(["workflow", workflow]);
  const history = historyOf(workflow, now());
  const header = () => ({ "If-Match": `"${String(now()?.version ?? "")}"` });
  const put = (document: string) =>
    ask(
      http.PUT("/workflows/{workflow}/draft", {
        params: { path: { workflow }, header: header() },
        body: { document },
      }),
    );
  const scope = { id: `draft ${workflow}` };
  const show = (w: Workflow) => {
    client.setQueryData(["workflow", workflow], w);
    keep(history, w);
  };
  const done = (w: Workflow) => {
    const before = now();
    if (before && before.document !== w.document) history.did(before.document, w.version);
    show(w);
  };
  const edit = useMutation({
    scope,
    onSuccess: done,
    mutationFn: async (typed: Edit[]) => {
      // A line may have got another name since this was typed.
      const edits = typed.map((e) =>
        e.step ? { ...e, step: renamesOf(workflow).now(e.step, has(now())) } : e,
      );
      const send = () =>
        ask(
          http.POST("/workflows/{workflow}/draft", {
            params: { path: { workflow }, header: header() },
            body: { edits } as Schemas["Edits"],
          }),
        );
      try {
        return await send();
      } catch (e) {
        // Lines are named, not counted: what is done with them can be done on what somebody else has left.
        const lines = edits.every((x) => x.op !== "set" && x.op !== "trigger");
        if (!lines || !(e instanceof Refusal) || e.status !== 412) throw e;
        show(await ask(http.GET("/workflows/{workflow}", { params: { path: { workflow } } })));
        return send();
      }
    },
    onError: () => client.invalidateQueries({ queryKey: ["workflow", workflow] }),
  });
  const save = useMutation({ scope, mutationFn: put, onSuccess: done });
  const turn = useMutation({
    scope,
    mutationFn: async (way: "back" | "forth") => {
      const w = now();
      const to = way === "back" ? history.back(w?.version) : history.forth(w?.version);
      if (!w || to === undefined) return undefined;
      const next = await put(to);
      if (way === "back") history.undid(w.document, next.version);
      else history.redid(w.document, next.version);
      return next;
    },
    onSuccess: (w) => {
      if (w) show(w);
    },
  });
  return { edit, save, turn, ways: { back: history.length, forth: history.ahead } };
}

/** What edits would break. */
export const planOf = (workflow: string, edits: Edit[]) =>
  ask(
    http.POST("/workflows/{workflow}/draft/plan", {
      params: { path: { workflow } },
      body: { edits } as Schemas["Edits"],
    }),
  );
