import { ArrowUp, Plus, X } from "lucide-react";
import { useRef, useState } from "react";
import { asFields, type Fields, type Json } from "../../api/client";
import { askedType, askedTypes, choicesOf, nameOf, pastedFields, withChoices, withType } from "../askedTypes";
import { readList } from "../read";
import { AskedMore } from "./AskedMore";
import { WorkspaceListControl } from "./NamedControls";
import type { ControlProps } from "./props";

interface Row {
  key: number;
  field: Fields;
}

/** The fields that somebody is asked for: what each is called, what it takes, whether it must be filled in. */
export function AskedControl({ id, label, value, onSet }: ControlProps) {
  const [rows, setRows] = useState<Row[]>(() =>
    (Array.isArray(value) ? value : []).map((f, key) => ({ key, field: asFields(f) })),
  );
  const next = useRef(rows.length);
  const change = (all: Row[]) => {
    setRows(all);
    onSet(all.length > 0 ? all.map((r) => r.field) : undefined);
  };
  const add = () => {
    const taken = rows.map((r) => String(r.field["name"]));
    const field = { name: nameOf("field", taken), title: "", type: "string" };
    setRows([...rows, { key: next.current++, field }]); // it is kept once it has a title
  };
  return (
    <div role="group" aria-label={label} className="space-y-2">
      {rows.map((r, i) => (
        <AskedRow
          key={r.key}
          id={i === 0 ? id : `${id}-${String(r.key)}`}
          field={r.field}
          number={i + 1}
          taken={rows.filter((x) => x !== r).map((x) => String(x.field["name"]))}
          onChange={(field) => {
            change(rows.map((x) => (x === r ? { ...x, field } : x)));
          }}
          onUp={() => {
            change([...rows.slice(0, i - 1), r, ...rows.slice(i - 1, i), ...rows.slice(i + 1)]);
          }}
          onRemove={() => {
            change(rows.filter((x) => x !== r));
          }}
        />
      ))}
      <div className="flex flex-wrap items-center gap-x-4 gap-y-1">
        <button type="button" className="flex items-center gap-1 text-second hover:text-ink" onClick={add}>
          <Plus size={14} aria-hidden /> {rows.length === 0 ? "Ask for a field" : "Ask for another field"}
        </button>
        <Pasted
          id={`${id}-pasted`}
          onTake={(list) => {
            const fields = pastedFields(
              list,
              rows.map((r) => String(r.field["name"])),
            );
            change([...rows, ...fields.map((field) => ({ key: next.current++, field }))]);
          }}
        />
      </div>
    </div>
  );
}

/** A list of fields that stands somewhere else, one on each line. */
function Pasted({ id, onTake }: { id: string; onTake: (list: string) => void }) {
  const [text, setText] = useState<string>();
  if (text === undefined)
    return (
      <button
        type="button"
        className="text-second hover:text-ink"
        onClick={() => {
          setText("");
        }}
      >
        Paste a list
      </button>
    );
  return (
    <div className="w-full">
      <label className="label" htmlFor={id}>
        One field on each line
      </label>
      <textarea
        id={id}
        className="field min-h-24"
        placeholder={"Your name *\nMail (email) *\nCone: 6, 9, 10\nA picture (file)"}
        value={text}
        onChange={(e) => {
          setText(e.target.value);
        }}
      />
      <div className="hint mt-1">
        A star: it must be filled in. Brackets say what it takes, and a colon what it can be.
      </div>
      <div className="mt-1.5 flex gap-2">
        <button
          type="button"
          className="btn"
          disabled={text.trim() === ""}
          onClick={() => {
            onTake(text);
            setText(undefined);
          }}
        >
          Take these fields
        </button>
        <button
          type="button"
          className="text-second hover:text-ink"
          onClick={() => {
            setText(undefined);
          }}
        >
          Leave
        </button>
      </div>
    </div>
  );
}

interface RowProps {
  id: string;
  field: Fields;
  number: number;
  taken: string[];
  onChange: (field: Fields) => void;
  onUp: () => void;
  onRemove: () => void;
}

const text = (v: Json | undefined) => (typeof v === "string" ? v : "");

function AskedRow({ id, field, number, taken, onChange, onUp, onRemove }: RowProps) {
  const type = askedType(field);
  const choices = choicesOf(field);
  const named = text(field["title"]) || text(field["name"]);
  const [title, setTitle] = useState(text(field["title"]));
  // A field that nothing reads yet is named by its title.
  const [fresh] = useState(text(field["title"]) === "");
  const which = `field ${String(number)}`;
  return (
    <div className="rounded-lg border border-rule p-2">
      <div className="grid grid-cols-[minmax(0,1fr)_128px_auto] items-center gap-2">
        <input
          id={id}
          aria-label={`What ${which} is called`}
          className="field"
          placeholder="What it is called"
          value={title}
          onChange={(e) => {
            setTitle(e.target.value);
            if (e.target.value.trim() !== "")
              onChange({
                ...field,
                title: e.target.value,
                ...(fresh ? { name: nameOf(e.target.value, taken) } : {}),
              });
          }}
        />
        <select
          aria-label={`What ${named || which} takes`}
          className="field"
          value={type ?? "other"}
          onChange={(e) => {
            onChange(withType(field, e.target.value));
          }}
        >
          {type === undefined && <option value="other">as the text says</option>}
          {askedTypes.map((t) => (
            <option key={t.name} value={t.name}>
              {t.words}
            </option>
          ))}
        </select>
        <span className="flex items-center gap-1">
          <button
            type="button"
            className="text-third hover:text-ink disabled:invisible"
            aria-label={`Move ${named || which} up`}
            disabled={number === 1}
            onClick={onUp}
          >
            <ArrowUp size={14} />
          </button>
          <button
            type="button"
            className="text-third hover:text-rust"
            aria-label={`No longer ask for ${named || which}`}
            onClick={onRemove}
          >
            <X size={14} />
          </button>
        </span>
      </div>
      {choices && (
        <input
          aria-label={`What ${named || which} can be`}
          className="field mt-1.5"
          placeholder="what it can be, with commas between them"
          defaultValue={choices.map(String).join(", ")}
          onChange={(e) => {
            onChange(withChoices(field, readList(e.target.value)));
          }}
        />
      )}
      {type === "of_list" && (
        <div className="mt-1.5">
          <label className="sr-only" htmlFor={`${id}-list`}>
            Which list {named || which} is one of
          </label>
          <WorkspaceListControl
            id={`${id}-list`}
            label=""
            schema={{}}
            around={{ connection: undefined, values: {} }}
            problems={[]}
            value={field["from_list"]}
            onSet={(v) => {
              onChange({ ...field, from_list: v ?? "" });
            }}
          />
        </div>
      )}
      <div className="mt-1.5 flex flex-wrap items-center gap-3 text-xs text-second">
        <label className="flex items-center gap-1.5">
          <input
            type="checkbox"
            className="accent-leaf"
            checked={field["required"] === true}
            onChange={(e) => {
              const rest = Object.fromEntries(Object.entries(field).filter(([k]) => k !== "required"));
              onChange(e.target.checked ? { ...rest, required: true } : rest);
            }}
          />
          must be filled in
        </label>
        <AskedMore key={type ?? "other"} id={id} named={named || which} field={field} onChange={onChange} />
        <code className="ml-auto truncate font-mono" title="How steps read it">
          item.{text(field["name"])}
        </code>
      </div>
    </div>
  );
}
