import { Plus, X } from "lucide-react";
import { useState } from "react";
import { asFields, type Fields, type Json } from "../api/client";
import { ExpressionField } from "./ExpressionField";

/** What an expression field needs to know of the chosen row. */
export interface Shared {
  item: Fields | undefined;
  trigger: Fields | undefined;
  row: string | undefined;
  steps: string[];
}

const listOf = (v: Json | undefined): Fields[] => (Array.isArray(v) ? v.map((e) => asFields(e)) : []);

const named = (text: string) => text.toLowerCase().replace(/[^a-z0-9_]+/g, "_").replace(/^[^a-z]+/, "");

/** The cases of a branch: a name and a condition each. Their steps are lines of the outline. */
export function Cases({ value, onSet, shared }: { value: Json | undefined; onSet: (v: Json) => void; shared: Shared }) {
  const [cases, setCases] = useState(() => listOf(value));
  const change = (next: Fields[]) => { setCases(next); onSet(next as Json); };
  const set = (i: number, key: string, v: Json) => { change(cases.map((c, j) => (j === i ? { ...c, [key]: v } : c))); };
  return (
    <div className="space-y-2">
      {cases.map((c, i) => (
        <div key={i} className="grid grid-cols-[110px_1fr_24px] items-start gap-2">
          <input className="field" aria-label={`Name of case ${String(i + 1)}`} defaultValue={String(c["name"] ?? "")} onBlur={(e) => { const n = named(e.target.value); e.target.value = n; if (n !== c["name"]) set(i, "name", n); }} />
          <ExpressionField label={`Condition of case ${String(i + 1)}`} template={false} value={String(c["when"] ?? "")} onChange={(v) => { set(i, "when", v); }} placeholder="item.priority == &quot;urgent&quot;" {...shared} />
          <button type="button" className="btn-plain mt-1.5 text-third hover:text-rust" aria-label={`Remove case ${String(i + 1)} and its lines`} onClick={() => { change(cases.filter((_, j) => j !== i)); }}><X size={14} /></button>
        </div>
      ))}
      <button type="button" className="flex items-center gap-1 text-second hover:text-ink" onClick={() => { change([...cases, { name: `case_${String(cases.length + 1)}`, when: "", steps: [] }]); }}><Plus size={14} /> Another case</button>
    </div>
  );
}

/** The fields of a gathered item: a name, how, and of what. */
export function Totals({ value, schema, onSet, shared }: { value: Fields; schema: Fields; onSet: (v: Json) => void; shared: Shared }) {
  const how = asFields(asFields(asFields(schema["additionalProperties"])["properties"])["how"]);
  const words = asFields(how["words"]);
  const ways = Array.isArray(how["enum"]) ? how["enum"].map(String) : [];
  const [rows, setRows] = useState(() => Object.entries(value).map(([name, v]) => ({ name, ...asFields(v) }) as Fields));
  const change = (next: Fields[]) => {
    setRows(next);
    onSet(Object.fromEntries(next.filter((r) => r["name"]).map(({ name, ...rest }) => [String(name), rest])) as Json);
  };
  const set = (i: number, key: string, v: Json) => { change(rows.map((r, j) => (j === i ? { ...r, [key]: v } : r))); };
  return (
    <div className="space-y-2">
      {rows.map((r, i) => (
        <div key={i} className="grid grid-cols-[100px_120px_1fr_24px] items-start gap-2">
          <input className="field" aria-label={`Name of field ${String(i + 1)}`} defaultValue={String(r["name"] ?? "")} onBlur={(e) => { if (e.target.value !== r["name"]) set(i, "name", e.target.value.trim()); }} />
          <select className="field" aria-label={`How field ${String(i + 1)} is made`} value={String(r["how"] ?? "")} onChange={(e) => { set(i, "how", e.target.value); }}>
            {ways.map((w) => <option key={w} value={w}>{String(words[w] ?? w)}</option>)}
          </select>
          <ExpressionField label={`Of what field ${String(i + 1)} is made`} template={false} value={String(r["of"] ?? "")} onChange={(v) => { if (v) set(i, "of", v); else change(rows.map((x, j) => (j === i ? Object.fromEntries(Object.entries(x).filter(([k]) => k !== "of")) : x))); }} placeholder="item.price" {...shared} />
          <button type="button" className="btn-plain mt-1.5 text-third hover:text-rust" aria-label={`Remove field ${String(i + 1)}`} onClick={() => { change(rows.filter((_, j) => j !== i)); }}><X size={14} /></button>
        </div>
      ))}
      <button type="button" className="flex items-center gap-1 text-second hover:text-ink" onClick={() => { change([...rows, { name: `field_${String(rows.length + 1)}`, how: "count" }]); }}><Plus size={14} /> Another field</button>
    </div>
  );
}

export function WholeNumber({ id, value, onSet }: { id: string; value: Json | undefined; onSet: (v: Json) => void }) {
  return <input id={id} type="number" step={1} className="field" defaultValue={typeof value === "number" ? value : ""} onBlur={(e) => { const n = e.target.valueAsNumber; onSet(Number.isInteger(n) ? n : null); }} />;
}
