import { Plus, X } from "lucide-react";
import { useRef, useState } from "react";
import { asFields, type Fields, type Json, type Schemas } from "../../api/client";
import { fieldsOf, titleOf } from "../schema";
import { NumberControl } from "./NumberControl";
import { OneOfControl, YesNoControl } from "./ChoiceControls";
import type { ControlProps } from "./props";
import { TextControl } from "./TextControl";
import { kindOf } from "../kind";

type Property = Schemas["Property"];

const listOf = (v: Json | undefined): Fields[] => (Array.isArray(v) ? v.map((e) => asFields(e)) : []);

const without = (fields: Fields, name: string, v: Json | undefined): Fields => {
  const rest = Object.fromEntries(Object.entries(fields).filter(([k]) => k !== name));
  return v === undefined || v === "" ? rest : { ...rest, [name]: v };
};

/** A list of objects, one in each row, with a column for each of their fields. */
export function RowsControl({ id, label, schema, value, onSet, around }: ControlProps) {
  const columns = fieldsOf(asFields(schema["items"]));
  // Rows are kept apart from what is stored: one that is empty yet is not stored.
  const [rows, setRows] = useState(() => {
    const given = listOf(value);
    return (given.length > 0 ? given : [{}]).map((fields, key) => ({ key, fields }));
  });
  const next = useRef(rows.length);
  const change = (all: typeof rows) => {
    setRows(all);
    const full = all.map((r) => r.fields).filter((f) => Object.keys(f).length > 0);
    onSet(full.length > 0 ? full : undefined);
  };
  const grid = { gridTemplateColumns: `repeat(${String(columns.length)}, minmax(0, 1fr)) 24px` };
  return (
    <div role="group" aria-label={label} className="space-y-1.5">
      <div aria-hidden className="grid gap-2 text-xs text-second" style={grid}>
        {columns.map((c) => (
          <span key={c.name}>{titleOf(c)}</span>
        ))}
      </div>
      {rows.map((r, i) => (
        <div key={r.key} className="grid items-start gap-2" style={grid}>
          {columns.map((c, j) => (
            <Cell
              key={c.name}
              id={i === 0 && j === 0 ? id : `${id}-${String(r.key)}-${c.name}`}
              label={`${titleOf(c)}, row ${String(i + 1)}`}
              of={c}
              value={r.fields[c.name]}
              around={around}
              onSet={(v) => {
                change(rows.map((x) => (x === r ? { ...x, fields: without(x.fields, c.name, v) } : x)));
              }}
            />
          ))}
          <button
            type="button"
            className="pt-2 text-third hover:text-rust"
            aria-label={`Remove row ${String(i + 1)}`}
            onClick={() => {
              change(rows.filter((x) => x !== r));
            }}
          >
            <X size={14} />
          </button>
        </div>
      ))}
      <button
        type="button"
        className="flex items-center gap-1 text-second hover:text-ink"
        onClick={() => {
          setRows([...rows, { key: next.current++, fields: {} }]);
        }}
      >
        <Plus size={14} aria-hidden /> Another row
      </button>
    </div>
  );
}

function Cell(props: {
  id: string;
  label: string;
  of: Property;
  value: Json | undefined;
  around: ControlProps["around"];
  onSet: (v: Json | undefined) => void;
}) {
  const schema = asFields(props.of.schema);
  const kind = kindOf(schema);
  const all = { ...props, schema, problems: [], required: false };
  if (kind === "yes_no") return <YesNoControl {...all} />;
  const Chosen = kind === "one_of" ? OneOfControl : kind === "text" ? TextControl : NumberControl;
  return (
    <label className="block min-w-0" htmlFor={props.id}>
      <span className="sr-only">{props.label}</span>
      <Chosen {...all} />
    </label>
  );
}
