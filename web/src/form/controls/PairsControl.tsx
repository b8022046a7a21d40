import { Plus, X } from "lucide-react";
import { useRef, useState } from "react";
import { asFields, type Fields, type Json } from "../../api/client";
import { writeJson } from "../../api/exact";
import { ExpressionField } from "../ExpressionField";
import { Suggested } from "../finder/Suggested";
import { AddName } from "./AddName";
import { useChoices } from "../../api/connections";
import type { ControlProps } from "./props";

/** Name to value: the columns of a tab, or fields that a step sets. */
export function PairsControl({ label, schema, value: stored, onSet, around }: ControlProps) {
  const list = schema["keys"] ? String(schema["keys"]) : undefined;
  const columns = useChoices(around.connection, list, around.values, list !== undefined);
  // What was typed last counts, not what the service has answered so far.
  const [value, setValue] = useState(asFields(stored));
  const latest = useRef(value);
  const change = (next: Fields) => {
    latest.current = next;
    setValue(next);
    onSet(Object.keys(next).length > 0 ? next : undefined);
  };
  const put = (name: string, v: Json) => {
    change({ ...latest.current, [name]: v });
  };
  const add = (name: string) => {
    if (name && !(name in value)) put(name, "");
  };
  const offers = (columns.data?.options ?? []).map((o) => ({ name: o.name, required: false, schema: {} }));
  const offered = (columns.data?.options.map((o) => o.name) ?? []).filter((n) => !(n in value));
  const plainText = schema["hint"] === "names";
  return (
    <div className="space-y-2">
      {Object.keys(value)
        .sort()
        .map((name) => (
          <div key={name} className="grid grid-cols-[104px_1fr_22px] items-start gap-2">
            <span className="truncate pt-1.5 font-medium" title={name}>
              {name}
            </span>
            {plainText || !around.shared ? (
              <input
                aria-label={name}
                className="field"
                defaultValue={String(value[name] ?? "")}
                onBlur={(e) => {
                  put(name, e.target.value);
                }}
              />
            ) : (
              <ExpressionField
                label={`${label}: ${name}`}
                template
                value={typeof value[name] === "string" ? value[name] : writeJson(value[name])}
                onChange={(v) => {
                  put(name, v);
                }}
                placeholder="text, or (= item.… )"
                {...around.shared}
                row={undefined}
              />
            )}
            <button
              type="button"
              aria-label={`Remove ${name}`}
              className="pt-2 text-third hover:text-rust"
              onClick={() => {
                change(Object.fromEntries(Object.entries(latest.current).filter(([k]) => k !== name)));
              }}
            >
              <X size={14} />
            </button>
          </div>
        ))}
      {columns.data?.why_empty && <div className="text-amber">{columns.data.why_empty}</div>}
      {offered.length > 0 && (
        <div className="flex flex-wrap gap-1.5">
          {offered.map((n) => (
            <button
              key={n}
              type="button"
              className="flex items-center gap-1 rounded-full border border-rule px-2.5 py-0.5 text-second hover:border-leaf hover:text-leafink"
              onClick={() => {
                add(n);
              }}
            >
              <Plus size={12} aria-hidden />
              {n}
            </button>
          ))}
        </div>
      )}
      {around.shared && offers.length > 0 && (
        <Suggested
          wanted={offers}
          values={value}
          onTake={(taken) => {
            change({
              ...latest.current,
              ...Object.fromEntries(taken.map((s) => [s.name, s.expression])),
            });
          }}
        />
      )}
      {(!list || columns.error) && (
        <AddName label={label} placeholder={plainText ? "old name" : "name of a field"} onAdd={add} />
      )}
    </div>
  );
}
