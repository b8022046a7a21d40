import { Plus, X } from "lucide-react";
import { useState } from "react";
import { asFields, type Fields, type Json } from "../../api/client";
import { ExpressionField } from "../ExpressionField";
import { noRow, type ControlProps } from "./props";

const listOf = (v: Json | undefined): Fields[] => (Array.isArray(v) ? v.map((e) => asFields(e)) : []);

/** The values by which items are put in order, the first before the next. */
export function SortKeysControl({ schema, value: given, onSet, around }: ControlProps) {
  const shared = around.shared ?? noRow;
  const words = asFields(asFields(asFields(asFields(schema["items"])["properties"])["order"])["words"]);
  const [rows, setRows] = useState(() => {
    const l = listOf(given);
    return l.length > 0 ? l : [{} as Fields];
  });
  const change = (next: Fields[]) => {
    setRows(next);
    const full = next.filter((r) => r["of"]);
    onSet(full.length > 0 ? full : undefined);
  };
  const set = (i: number, key: string, v: Json | undefined) => {
    change(
      rows.map((r, j) =>
        j === i
          ? (Object.fromEntries(
              Object.entries({ ...r, [key]: v }).filter(([, x]) => x !== undefined),
            ) as Fields)
          : r,
      ),
    );
  };
  return (
    <div className="space-y-2">
      {rows.map((r, i) => (
        <div key={i} className="grid grid-cols-[1fr_190px_24px] items-start gap-2">
          <ExpressionField
            label={i === 0 ? "Put in order by" : `Then by ${String(i + 1)}`}
            template={false}
            value={String(r["of"] ?? "")}
            onChange={(v) => {
              set(i, "of", v);
            }}
            placeholder="item.due"
            {...shared}
          />
          <select
            className="field"
            aria-label={`Order ${String(i + 1)}`}
            value={String(r["order"] ?? "ascending")}
            onChange={(e) => {
              set(i, "order", e.target.value === "ascending" ? undefined : e.target.value);
            }}
          >
            {["ascending", "descending"].map((o) => (
              <option key={o} value={o}>
                {String(words[o] ?? o)}
              </option>
            ))}
          </select>
          {rows.length > 1 && (
            <button
              type="button"
              className="btn-plain mt-1.5 text-third hover:text-rust"
              aria-label={`Remove value ${String(i + 1)}`}
              onClick={() => {
                change(rows.filter((_, j) => j !== i));
              }}
            >
              <X size={14} />
            </button>
          )}
        </div>
      ))}
      {rows.length < 8 && (
        <button
          type="button"
          className="flex items-center gap-1 text-second hover:text-ink"
          onClick={() => {
            setRows([...rows, {}]);
          }}
        >
          <Plus size={14} /> Then by another value
        </button>
      )}
    </div>
  );
}
