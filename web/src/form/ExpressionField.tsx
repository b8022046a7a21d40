import { autocompletion } from "@codemirror/autocomplete";
import { history, historyKeymap, standardKeymap } from "@codemirror/commands";
import { syntaxHighlighting } from "@codemirror/language";
import { EditorState, Prec } from "@codemirror/state";
import { EditorView, keymap, placeholder as ghost } from "@codemirror/view";
import { Children, useEffect, useRef, useState } from "react";
import type { Fields } from "../api/client";
import { useFunctions } from "../api/expressions";
import { useListNames } from "../api/lists";
import { Evaluated } from "./Evaluated";
import { colours, complete, language } from "./expressionLanguage";
import { WithFinder } from "./finder/WithFinder";
import { styleNonce } from "../nonce";
import { useFocus } from "./focus";

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
  const lists = useListNames();
  const focus = useFocus();
  const now = {
    onChange,
    item,
    trigger,
    steps,
    functions: functions.data?.functions ?? [],
    lists: lists.data?.lists ?? [],
  };
  const latest = useRef(now);
  useEffect(() => {
    latest.current = now;
  });
  const [text, setText] = useState(value);
  const [finding, setFinding] = useState(false);

  useEffect(() => {
    if (!host.current) return;
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
          EditorView.cspNonce.of(styleNonce),
          autocompletion({
            // Whoever has gone on already is offered nothing more: it would lie over what is next.
            override: [(c) => (c.view?.hasFocus === false ? null : complete(c, latest.current))],
            icons: false,
          }),
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
      <WithFinder
        label={label}
        open={finding}
        onOpen={setFinding}
        onUse={(path) => {
          if (view.current) put(view.current, path, template);
        }}
        onClosed={() => view.current?.focus()}
      >
        <div ref={host} />
      </WithFinder>
      {
        Children.count(children) > 0 ? (
          children
        ) : (
          <Evaluated source={text} template={template} item={item} trigger={trigger} row={row} />
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
