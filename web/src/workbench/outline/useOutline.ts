import { useEffect, useMemo, useRef, useState } from "react";
import { asFields, type Line, type Workflow } from "../../api/client";
import { has, renamesOf, type Edit } from "../../api/draft";
import { useKinds } from "../../api/connectors";
import type { LineDoes } from "../LineMenu";
import { casesOf, extent, find, freshCase, isCase, keyOf, shift, TRIGGER, type Place } from "../lines";
import { copied, type Lines } from "../useLines";
import { firstField } from "./firstField";

interface About {
  workflow: Workflow;
  chosen: string | undefined;
  onChoose: (key: string | undefined) => void;
  onEdit: (edits: Edit[]) => void;
  does: Lines;
}

/** What is open of the outline, where its focus is, and what can be done with each line. */
export function useOutline({ workflow, chosen, onChoose, onEdit, does }: About) {
  const tree = useRef<HTMLDivElement>(null);
  const { lines } = workflow;
  const kinds = useKinds().data?.steps;
  const [at, setAt] = useState<string>(); // the line that has the tab stop
  const [adding, setAdding] = useState<string>(); // the line below which one is added
  const [menu, setMenu] = useState<string>();
  const [help, setHelp] = useState(false);
  const keys = useMemo(() => [TRIGGER, ...lines.map(keyOf)], [lines]);
  const stop = [at, chosen, TRIGGER].find((k) => k !== undefined && keys.includes(k));
  const focus = (key: string) => {
    tree.current?.querySelector<HTMLElement>(`[data-line="${CSS.escape(key)}"] button`)?.focus();
  };

  // A line that was made or moved by keys keeps the focus.
  const { keep } = does;
  useEffect(() => {
    const { key, fill } = keep.current ?? {};
    if (key === undefined || !keys.includes(key)) return;
    keep.current = undefined;
    const line = tree.current?.querySelector<HTMLElement>(`[data-line="${CSS.escape(key)}"]`);
    ((fill ? firstField(line) : undefined) ?? line?.querySelector("button"))?.focus();
  }, [keep, keys]);

  const beside = (l: Line) => {
    const i = lines.indexOf(l);
    return keyOf(
      lines[i + extent(lines, i) + 1] ?? lines[i - 1] ?? { name: TRIGGER, type: "", kind: "", sentence: "" },
    );
  };
  const fill = (key: string) => {
    // opens a line with the cursor in its first field
    onChoose(key);
    requestAnimationFrame(() => {
      firstField(tree.current?.querySelector(`[data-line="${CSS.escape(key)}"]`))?.focus();
    });
  };
  const clipped = (e: React.ClipboardEvent, act: (l: Line | undefined, key: string | undefined) => void) => {
    if ((e.target as HTMLElement).closest("input, textarea, select, [contenteditable=true]")) return;
    e.preventDefault();
    const key = (e.target as HTMLElement).closest<HTMLElement>("[data-line]")?.dataset["line"];
    act(find(lines, key), key);
  };
  return {
    tree,
    kinds,
    keys,
    stop,
    adding,
    menu,
    help,
    setAt,
    setAdding,
    setMenu,
    setHelp,
    focus,
    fill,
    beside,
    taken: lines.map((l) => l.name),
    idOf: (key: string) => renamesOf(workflow.name).id(key, has(workflow)), // the same while a line is renamed
    doesFor: doesForOf({ lines, does, onChoose, onEdit, setAdding, beside }),
    add: (place: Place) => (step: Edit["value"]) => {
      setAdding(undefined);
      does.insert(place, step);
    },
    onCopy: (e: React.ClipboardEvent) => {
      clipped(e, (l) => {
        if (l) e.clipboardData.setData("text/plain", does.copy(l));
      });
    },
    onCut: (e: React.ClipboardEvent) => {
      clipped(e, (l) => {
        if (l?.text) {
          e.clipboardData.setData("text/plain", l.text);
          does.cut(l, beside(l));
        }
      });
    },
    onPaste: (e: React.ClipboardEvent) => {
      clipped(e, (_, key) => {
        does.paste(key, e.clipboardData.getData("text/plain"));
      });
    },
  };
}

export type OutlineState = ReturnType<typeof useOutline>;

interface Doing {
  lines: Line[];
  does: Lines;
  onChoose: (key: string | undefined) => void;
  onEdit: (edits: Edit[]) => void;
  setAdding: (key: string) => void;
  beside: (l: Line) => string;
}

/** The edits that give a line a fallback. */
const fallbackOf = (l: Line): Edit[] => [
  { op: "set", step: l.name, key: "on_error", value: "fallback" },
  { op: "set", step: l.name, key: "fallback", value: [] },
];

const doesForOf =
  ({ lines, does, onChoose, onEdit, setAdding, beside }: Doing) =>
  (l: Line): LineDoes => {
    const key = keyOf(l);
    const branch = isCase(l) ? (l.in ?? "") : l.name;
    return {
      add: () => {
        setAdding(key);
      },
      addCase: () => {
        const c = freshCase(lines, branch);
        does.insert({ in: branch, to: casesOf(lines, branch).length }, c);
        onChoose(`${branch}/${String(asFields(c)["name"])}`);
      },
      addElse: () => {
        void does.change([{ op: "insert", in: branch, value: { name: "else" } }], "Added: what else happens");
      },
      addFallback: () => {
        void does.change(fallbackOf(l), "Added: what happens if it fails");
      },
      copy: () => {
        does.copy(l);
      },
      cut: () => {
        does.cut(l, beside(l));
      },
      paste: () => {
        void copied().then((t) => {
          does.paste(key, t);
        });
      },
      duplicate: () => {
        does.duplicate(l);
      },
      shift: (to) => {
        does.move(key, (now) => shift(now, key, to));
      },
      toggle: () => {
        onEdit([{ op: "set", step: l.name, key: "off", value: l.off ? null : true }]);
      },
      remove: () => {
        does.remove(l, beside(l));
      },
    };
  };
