import { defaultKeymap, history, historyKeymap } from "@codemirror/commands";
import { yaml } from "@codemirror/lang-yaml";
import { HighlightStyle, syntaxHighlighting } from "@codemirror/language";
import { EditorState } from "@codemirror/state";
import { EditorView, keymap, lineNumbers } from "@codemirror/view";
import { tags } from "@lezer/highlight";
import { useEffect, useRef } from "react";
import { styleNonce } from "../nonce";

const colours = HighlightStyle.define([
  { tag: tags.propertyName, color: "var(--field)" },
  { tag: tags.comment, color: "var(--third)", fontStyle: "italic" },
  { tag: tags.string, color: "var(--ink)" },
]);

/** The workflow as its document. */
export function TextView({ text, onChange }: { text: string; onChange: (text: string) => void }) {
  const host = useRef<HTMLDivElement>(null);
  const latest = useRef(onChange);
  useEffect(() => {
    latest.current = onChange;
  });
  useEffect(() => {
    if (!host.current) return;
    const view = new EditorView({
      parent: host.current,
      state: EditorState.create({
        doc: text,
        extensions: [
          lineNumbers(),
          history(),
          keymap.of([...defaultKeymap, ...historyKeymap]),
          yaml(),
          syntaxHighlighting(colours),
          EditorView.lineWrapping,
          EditorView.cspNonce.of(styleNonce),
          EditorView.contentAttributes.of({ "aria-label": "The document" }),
          EditorView.updateListener.of((u) => {
            if (u.docChanged) latest.current(u.state.doc.toString());
          }),
        ],
      }),
    });
    return () => {
      view.destroy();
    };
    // The editor keeps its own text from then on.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, []);
  return <div ref={host} className="px-4 pb-4" />;
}
