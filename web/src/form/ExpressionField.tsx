import { autocompletion, type Completion, type CompletionContext } from "@codemirror/autocomplete";
import { history, historyKeymap, standardKeymap } from "@codemirror/commands";
import { HighlightStyle, StreamLanguage, syntaxHighlighting } from "@codemirror/language";
import { EditorState, Prec } from "@codemirror/state";
import { EditorView, keymap, placeholder as ghost } from "@codemirror/view";
import { tags } from "@lezer/highlight";
import { TextSearch } from "lucide-react";
import { Popover } from "radix-ui";
import { Children, useEffect, useRef, useState } from "react";
import { type Fields, type Json, type Schemas } from "../api/client";
import { useFunctions, useEvaluated } from "../api/expressions";
import { brief } from "../ui/words";
import { Finder } from "./finder/Finder";
import { useFocus } from "./focus";
import { useValues } from "./values";

interface Props {
  label: string;
  value: string;
  onChange: (value: string) => void;
  template: boolean; // text with (= … ) instead of one expression
  item: Fields | undefined; // the chosen row as it comes to this line
  trigger: Fields | undefined;
  steps: string[]; // earlier lines, by name
  row: string | undefined; // what the chosen row is called
  placeholder?: string | undefined;
  children?: React.ReactNode; // what stands beneath
}

const language = (template: boolean) =>
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

const colours = HighlightStyle.define([
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

/** An expression, with completion, and its value for the chosen row beneath. */
export function ExpressionField({
  label,
  value,
  onChange,
  template,
  item,
  trigger,
  steps,
  row,
  placeholder,
  children,
}: Props) {
  const host = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(undefined);
  const functions = useFunctions();
  const focus = useFocus();
  const latest = useRef({ onChange, item, trigger, steps, functions: functions.data?.functions ?? [] });
  useEffect(() => {
    latest.current = { onChange, item, trigger, steps, functions: functions.data?.functions ?? [] };
  });
  const [text, setText] = useState(value);
  const [finding, setFinding] = useState(false);
  const values = useValues();
  const use = (path: string) => {
    setFinding(false);
    if (view.current) put(view.current, path, template);
  };

  useEffect(() => {
    if (!host.current) return;
    const complete = (c: CompletionContext) => {
      const word = c.matchBefore(/[\w.]*/);
      if (!word || (word.from === word.to && !c.explicit)) return null;
      const now = latest.current;
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
          ...now.functions.flatMap((f) => functionOptions(f, word.text)),
        ],
      };
    };
    const editor = new EditorView({
      parent: host.current,
      state: EditorState.create({
        doc: value,
        extensions: [
          history(),
          Prec.highest(
            keymap.of([
              {
                key: "Ctrl-Space",
                run: () => {
                  setFinding(true);
                  return true;
                },
              },
            ]),
          ),
          keymap.of([...standardKeymap.filter((k) => k.key !== "Enter"), ...historyKeymap]),
          language(template),
          syntaxHighlighting(colours),
          EditorView.lineWrapping,
          autocompletion({ override: [complete], icons: false }),
          ghost(placeholder ?? ""),
          EditorView.contentAttributes.of({ "aria-label": label, spellcheck: "false" }),
          EditorView.updateListener.of((u) => {
            if (u.docChanged) {
              setText(u.state.doc.toString());
              latest.current.onChange(u.state.doc.toString());
            }
            if (u.focusChanged && u.view.hasFocus) {
              focus.current = (path) => {
                put(u.view, path, template);
              };
            }
          }),
        ],
      }),
    });
    view.current = editor;
    return () => {
      editor.destroy();
    };
    // The editor keeps its own text; a value from outside is taken up below.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [template, label]);

  useEffect(() => {
    const v = view.current;
    if (v && !v.hasFocus && v.state.doc.toString() !== value)
      v.dispatch({ changes: { from: 0, to: v.state.doc.length, insert: value } });
  }, [value]);

  return (
    <div>
      <Popover.Root open={finding} onOpenChange={setFinding}>
        <Popover.Anchor asChild>
          <div className="relative">
            <div ref={host} className={values ? "with-finder" : ""} />
            {values && (
              <Popover.Trigger
                className="absolute top-1 right-1 rounded p-1 text-third hover:bg-tint hover:text-leafink"
                aria-label={`Find a value for ${label}`}
                title="Find a value (Ctrl+Space)"
              >
                <TextSearch size={15} />
              </Popover.Trigger>
            )}
          </div>
        </Popover.Anchor>
        <Popover.Portal>
          <Popover.Content
            align="start"
            sideOffset={4}
            collisionPadding={8}
            className="card z-50 w-[640px] max-w-[94vw] shadow-xl"
            aria-label="Find a value"
            onCloseAutoFocus={(e) => {
              e.preventDefault();
              view.current?.focus();
            }}
          >
            <Finder
              label={label}
              onUse={use}
              onClose={() => {
                setFinding(false);
              }}
            />
          </Popover.Content>
        </Popover.Portal>
      </Popover.Root>
      {
        Children.count(children) > 0 ? (
          children
        ) : (
          <Value source={text} template={template} item={item} trigger={trigger} row={row} />
        ) /* one in place of the other, so that nothing below moves when it is mended */
      }
    </div>
  );
}

/** Puts a path where the cursor is, in the brackets of an expression where it stands in text. */
function put(view: EditorView, path: string, template: boolean) {
  const before = view.state.doc.sliceString(0, view.state.selection.main.head);
  const inside = !template || /\(=[^)]*$/.test(before);
  view.dispatch(view.state.replaceSelection(inside ? path : `(= ${path} )`));
  view.focus();
}

/** What the expression gives for the chosen row. */
function Value({
  source,
  template,
  item,
  trigger,
  row,
}: {
  source: string;
  template: boolean;
  item: Fields | undefined;
  trigger: Fields | undefined;
  row: string | undefined;
}) {
  const holds = source !== "" && (!template || source.includes("(="));
  const tried = useEvaluated(source, template, item, trigger, holds && item !== undefined);
  if (!holds) return null;
  if (!item) return <div className="hint mt-1">Rehearse to see its value here.</div>;
  const v = tried.data;
  if (!v) return <div className="hint mt-1">&nbsp;</div>;
  if (v.unknown !== undefined)
    return (
      <div className="hint mt-1">
        Its value is seen when the workflow is rehearsed: {v.unknown} is not known here.
      </div>
    );
  if (v.error)
    return (
      <div className="mt-1 text-rust">
        {v.error}
        {v.position !== undefined && <span className="text-second"> (character {v.position + 1})</span>}
      </div>
    );
  return (
    <div className="hint mt-1 truncate">
      {row ? `${row}: ` : ""}
      {v.why ? (
        <span className="font-semibold text-rust">{v.why}</span>
      ) : (
        <span className="font-medium text-ink">{v.text}</span>
      )}
    </div>
  );
}
