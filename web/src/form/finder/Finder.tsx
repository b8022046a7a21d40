import { useMemo, useRef, useState, type KeyboardEvent } from "react";
import { useValues } from "../values";
import { FoundRow } from "./FoundRow";
import { fieldsOf, searched, waysTo, type Found, type Way } from "./paths";

/** So many are listed; more are found by a word. */
const most = 300;

interface Props {
  label: string; // of the field that is filled in
  onUse: (expression: string) => void;
  onClose: () => void;
}

/** Finds one field among many by its name or its value, and puts it where the cursor is. */
export function Finder({ label, onUse, onClose }: Props) {
  const values = useValues();
  const [query, setQuery] = useState("");
  const [marked, setMarked] = useState(0);
  const [within, setWithin] = useState<Found>();
  const list = useRef<HTMLDivElement>(null);
  const sources = useMemo(() => values?.sources() ?? [], [values]);
  const all = useMemo(() => sources.flatMap(fieldsOf), [sources]);
  const found = useMemo(() => searched(all, query), [all, query]);
  const shown = found.slice(0, most);
  const take = (way: Way) => {
    if (way.list !== undefined) values?.spread?.(way.list);
    onUse(way.expression);
  };
  const choose = (f: Found | undefined) => {
    const ways = f ? waysTo(f) : [];
    if (ways.length > 1) setWithin(f);
    else if (ways[0]) take(ways[0]);
  };
  const mark = (to: number) => {
    const at = Math.max(0, Math.min(shown.length - 1, to));
    setMarked(at);
    list.current?.querySelector(`[data-at="${String(at)}"]`)?.scrollIntoView({ block: "nearest" });
  };
  const onKey = (e: KeyboardEvent) => {
    const moves: Record<string, number> = { ArrowDown: 1, ArrowUp: -1, PageDown: 8, PageUp: -8 };
    const by = moves[e.key];
    if (by !== undefined) mark(marked + by);
    else if (e.key === "Enter") choose(shown[marked]);
    else return;
    e.preventDefault();
  };
  if (within)
    return (
      <Ways
        found={within}
        onTake={take}
        onBack={() => {
          setWithin(undefined);
        }}
      />
    );
  return (
    <div className="flex max-h-[380px] flex-col">
      <input
        aria-label={`Find a value for ${label}`}
        role="combobox"
        aria-expanded="true"
        aria-controls="found"
        aria-activedescendant={shown[marked] ? `found-${String(marked)}` : undefined}
        className="m-2 h-8 rounded-lg border border-edge bg-sheet px-2.5 text-ink"
        placeholder="A name, or a value as “Tall jug”"
        value={query}
        onChange={(e) => {
          setQuery(e.target.value);
          setMarked(0);
        }}
        onKeyDown={onKey}
      />
      <div
        ref={list}
        id="found"
        role="listbox"
        aria-label="Values"
        className="min-h-0 flex-1 overflow-auto pb-1.5"
      >
        {shown.map((f, i) => (
          <FoundRow
            key={`${f.source.prefix} ${f.names.join("\u0000")}`}
            found={f}
            at={i}
            headed={query === "" && shown[i - 1]?.source !== f.source}
            searched={query !== ""}
            marked={i === marked}
            onChoose={() => {
              choose(f);
            }}
          />
        ))}
        {shown.length === 0 && (
          <div className="px-3 py-2 text-second">
            {all.length === 0
              ? "Nothing is known here yet: rehearse, or keep a sample."
              : `No name and no value has “${query}” in it.`}
          </div>
        )}
        {found.length > most && (
          <div className="px-3 py-1.5 text-xs text-second">
            {found.length - most} more; a word of the name or the value narrows them.
          </div>
        )}
      </div>
      <button type="button" className="sr-only" onClick={onClose}>
        Close
      </button>
    </div>
  );
}

/** Which of a list's elements are meant. */
function Ways({ found, onTake, onBack }: { found: Found; onTake: (w: Way) => void; onBack: () => void }) {
  return (
    <div className="space-y-1 p-3" role="group" aria-label="Which of the list">
      <div className="mb-1.5">
        <b>{found.names.filter((n) => n !== "[]").join(".")}</b> stands in a list. Which of it?
      </div>
      {waysTo(found).map((w, i) => (
        <button
          key={w.words}
          // eslint-disable-next-line jsx-a11y/no-autofocus -- the question comes in place of the list that had the focus
          autoFocus={i === 0}
          type="button"
          className="flex w-full items-baseline justify-between gap-3 rounded-lg px-2 py-1.5 text-left hover:bg-tint focus:bg-tint"
          onClick={() => {
            onTake(w);
          }}
        >
          <span>
            {w.words}
            {w.list !== undefined && <span className="text-second">: adds a line before this one</span>}
          </span>
          <code className="truncate font-mono text-xs text-second">{w.expression}</code>
        </button>
      ))}
      <button type="button" className="px-2 pt-1 text-second hover:underline" onClick={onBack}>
        Another value
      </button>
    </div>
  );
}
