import type { Completion, CompletionContext } from "@codemirror/autocomplete";
import { HighlightStyle, StreamLanguage } from "@codemirror/language";
import { tags } from "@lezer/highlight";
import type { Fields, Json, Schemas } from "../api/client";
import { brief } from "../ui/words";

/** How an expression is coloured: all of the text, or what stands between (= and ). */
export const language = (template: boolean) =>
  StreamLanguage.define({
    startState: () => ({ inside: !template, depth: 0 }),
    token(stream, state) {
      if (!state.inside) {
        if (stream.match("(=")) {
          state.inside = true;
          state.depth = 0;
          return "bracket";
        }
        stream.next();
        return null;
      }
      if (stream.match(/^"(\\.|[^"])*"?|^'(\\.|[^'])*'?/)) return "string";
      if (stream.match(/^\d+(\.\d+)?/)) return "number";
      if (stream.match(/^(and|or|not|in|matches|nil|true|false|let)\b/)) return "keyword";
      if (stream.match(/^[A-Za-z_][\w.]*(?=\()/)) return "keyword";
      if (stream.match(/^(item|trigger|steps|vars|run)\b[\w.]*/)) return "variableName";
      const c = stream.next();
      if (template && c === "(") state.depth++;
      if (template && c === ")" && state.depth-- === 0) {
        state.inside = false;
        return "bracket";
      }
      return null;
    },
  });

/** The colours of an expression. */
export const colours = HighlightStyle.define([
  { tag: tags.string, color: "var(--literal)" },
  { tag: tags.number, color: "var(--literal)" },
  { tag: tags.keyword, color: "var(--field)" },
  { tag: tags.variableName, color: "var(--field)" },
  { tag: tags.bracket, color: "var(--third)" },
]);

/** A function by its name, or by a word that people look for it by. */
function functionOptions(f: Schemas["Function"], typed: string): Completion[] {
  const says = `${f.help}${f.errors ? ` It is an error if ${f.errors}.` : ""} ${f.example} gives ${f.result}`;
  const option = { apply: `${f.name}(`, detail: f.usage.slice(f.name.length), info: says, type: "function" };
  const wanted = typed.toLowerCase();
  const by =
    wanted.length >= 3 && !f.name.startsWith(wanted)
      ? f.words.split(" ").find((w) => w.startsWith(wanted))
      : undefined;
  return [
    { ...option, label: f.name },
    ...(by === undefined ? [] : [{ ...option, label: by, displayLabel: f.name, boost: -5 }]),
  ];
}

/** What can be completed: the fields of the row at hand, earlier lines, and functions. */
export interface Known {
  item: Fields | undefined;
  trigger: Fields | undefined;
  steps: string[];
  functions: Schemas["Function"][];
  lists: Schemas["WorkspaceList"][];
}

/** Within list("…") the lists by name; where the rows of one are gone through, its columns. */
function completeList(c: CompletionContext, lists: Known["lists"]) {
  const naming = c.matchBefore(/\blist\(["'][\w-]*/);
  if (naming) {
    const quote = naming.text.charAt(5);
    return {
      from: naming.from + 6,
      options: lists.map((l) => ({
        label: l.name,
        detail: l.title,
        apply: `${l.name}${quote})`,
        type: "variable",
      })),
    };
  }
  const within = c.matchBefore(/\blist\(["'][\w-]+["']\),[^()]*(?<![\w#])#?\.\w*/);
  const name = within?.text.match(/^list\(["']([\w-]+)/)?.[1];
  const list = lists.find((l) => l.name === name);
  if (!within || !list) return undefined;
  return {
    from: within.from + within.text.lastIndexOf(".") + 1,
    options: list.columns.map((x) => ({ label: x.name, detail: x.title ?? "", type: "property" })),
  };
}

export function complete(c: CompletionContext, now: Known) {
  const ofList = completeList(c, now.lists);
  if (ofList) return ofList;
  const word = c.matchBefore(/[\w.]*/);
  if (!word || (word.from === word.to && !c.explicit)) return null;
  const path = word.text.split(".");
  if (path.length > 1) {
    const start = path[0] === "item" ? now.item : path[0] === "trigger" ? now.trigger : undefined;
    if (path[0] === "steps" && path.length === 2)
      return { from: word.from + 6, options: now.steps.map((s) => ({ label: s, type: "variable" })) };
    let at: Json | undefined = start;
    for (const p of path.slice(1, -1))
      at = at && typeof at === "object" && !Array.isArray(at) ? at[p] : undefined;
    if (!at || typeof at !== "object" || Array.isArray(at)) return null;
    return {
      from: word.to - (path[path.length - 1]?.length ?? 0),
      options: Object.entries(at).map(([k, v]) => ({
        label: k,
        detail: brief(v).slice(0, 40),
        type: "property",
      })),
    };
  }
  return {
    from: word.from,
    options: [
      ...["item", "trigger", "steps", "vars", "run"].map((l) => ({
        label: l,
        type: "variable",
        boost: 5,
      })),
      ...Object.keys(now.item ?? {}).map((k) => ({
        label: `item.${k}`,
        detail: brief(now.item?.[k]).slice(0, 40),
        type: "property",
        boost: 9,
      })),
      ...now.lists.map((l) => ({ label: `list("${l.name}")`, detail: l.title, type: "variable", boost: 1 })),
      ...now.functions.flatMap((f) => functionOptions(f, word.text)),
    ],
  };
}
