import { Plus, X } from "lucide-react";
import { useState } from "react";
import { asFields, type Fields, type Json } from "../../api/client";
import { ExpressionField } from "../ExpressionField";
import { noRow, type ControlProps } from "./props";

/** The fields of a gathered item: a name, how, and of what. */
export function TotalsControl({ schema, value: given, onSet, around }: ControlProps) {
  const shared = around.shared ?? noRow;
  const how = asFields(asFields(asFields(schema["additionalProperties"])["properties"])["how"]);
  const words = asFields(how["words"]);
  const ways = Array.isArray(how["enum"]) ? how["enum"].map(String) : [];
  const [rows, setRows] = useState(() =>
    Object.entries(asFields(given)).map(([name, v]) => ({ name, ...asFields(v) }) as Fields),
  );
  const change = (next: Fields[]) => {
    setRows(next);
    onSet(
      Object.fromEntries(
        next.filter((r) => r["name"]).map(({ name, ...rest }) => [String(name), rest]),
      ) as Json,
    );
  };
  const set = (i: number, key: string, v: Json) => {
    change(rows.map((r, j) => (j === i ? { ...r, [key]: v } : r)));
  };
  return (
    <div className="space-y-2">
      {rows.map((r, i) => (
        <div key={i} className="grid grid-cols-[100px_120px_1fr_24px] items-start gap-2">
          <input
            className="field"
            aria-label={`Name of field ${String(i + 1)}`}
            defaultValue={String(r["name"] ?? "")}
            onBlur={(e) => {
              if (e.target.value !== r["name"]) set(i, "name", e.target.value.trim());
            }}
          />
          <select
            className="field"
            aria-label={`How field ${String(i + 1)} is made`}
            value={String(r["how"] ?? "")}
            onChange={(e) => {
              set(i, "how", e.target.value);
            }}
          >
            {ways.map((w) => (
              <option key={w} value={w}>
                {String(words[w] ?? w)}
              </option>
            ))}
          </select>
          <ExpressionField
            label={`Of what field ${String(i + 1)} is made`}
            template={false}
            value={String(r["of"] ?? "")}
            onChange={(v) => {
              if (v) set(i, "of", v);
              else
                change(
                  rows.map((x, j) =>
                    j === i ? Object.fromEntries(Object.entries(x).filter(([k]) => k !== "of")) : x,
                  ),
                );
            }}
            placeholder="item.price"
            {...shared}
          />
          <button
            type="button"
            className="btn-plain mt-1.5 text-third hover:text-rust"
            aria-label={`Remove field ${String(i + 1)}`}
            onClick={() => {
              change(rows.filter((_, j) => j !== i));
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
          change([...rows, { name: `field_${String(rows.length + 1)}`, how: "count" }]);
        }}
      >
        <Plus size={14} /> Another field
      </button>
    </div>
  );
}
