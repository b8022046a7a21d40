import { Plus, X } from "lucide-react";
import { useState } from "react";
import { asFields, type Column, type Fields, type Finding, type Json, type Line } from "../api/client";
import type { Edit } from "../api/queries";
import { plural } from "../ui/words";
import { named } from "./CaseForm";
import { ExpressionField } from "./ExpressionField";
import { freshCase } from "./lines";
import { ProblemText } from "./parts";

/** What an expression field needs to know of the chosen row. */
export interface Shared {
  item: Fields | undefined;
  trigger: Fields | undefined;
  row: string | undefined;
  steps: string[];
}

const listOf = (v: Json | undefined): Fields[] => (Array.isArray(v) ? v.map((e) => asFields(e)) : []);

/** The cases of a branch: a name and a condition each. Their steps are lines of the outline. */
export function Cases({
  cases,
  branch,
  column,
  problems,
  idOf,
  onEdit,
  shared,
}: {
  cases: Line[];
  branch: string;
  column: Column | undefined;
  problems: Finding[];
  idOf: (key: string) => string;
  onEdit: (edits: Edit[]) => void;
  shared: Shared;
}) {
  return (
    <div className="space-y-2">
      {cases.map((c, i) => {
        const key = c.inside ?? c.name;
        const count = column?.ways?.find((w) => w.name === c.name)?.count;
        return (
          <div key={idOf(key)} className="grid grid-cols-[110px_1fr_24px] items-start gap-2">
            <div>
              <input
                className="field"
                aria-label={`Name of case ${String(i + 1)}`}
                defaultValue={c.name}
                onKeyDown={(e) => {
                  if (e.key === "Enter") e.currentTarget.blur();
                }}
                onBlur={(e) => {
                  const n = named(e.target.value);
                  e.target.value = n || c.name;
                  if (n && n !== c.name) onEdit([{ op: "rename", step: key, value: n }]);
                }}
              />
              {count !== undefined && <div className="hint mt-1">{plural(count, "row")}</div>}
            </div>
            <ExpressionField
              label={`Condition of case ${String(i + 1)}`}
              template={false}
              value={String(asFields(c.settings)["when"] ?? "")}
              onChange={(v) => {
                onEdit([{ op: "set", step: key, key: "when", value: v }]);
              }}
              placeholder='item.priority == "urgent"'
              {...shared}
            >
              {problems
                .filter((p) => p.path.includes(`.cases[${String(i)}].`))
                .map((p, j) => (
                  <ProblemText key={j} p={p} />
                ))}
            </ExpressionField>
            <button
              type="button"
              className="btn-plain mt-1.5 text-third hover:text-rust"
              aria-label={`Remove case ${String(i + 1)} and its lines`}
              onClick={() => {
                onEdit([{ op: "remove", step: key }]);
              }}
            >
              <X size={14} />
            </button>
          </div>
        );
      })}
      <button
        type="button"
        className="flex items-center gap-1 text-second hover:text-ink"
        onClick={() => {
          onEdit([{ op: "insert", in: branch, to: cases.length, value: freshCase(cases, branch) }]);
        }}
      >
        <Plus size={14} /> Another case
      </button>
    </div>
  );
}

/** The values by which items are put in order, the first before the next. */
export function SortKeys({
  value,
  schema,
  onSet,
  shared,
}: {
  value: Json | undefined;
  schema: Fields;
  onSet: (v: Json) => void;
  shared: Shared;
}) {
  const words = asFields(asFields(asFields(asFields(schema["items"])["properties"])["order"])["words"]);
  const [rows, setRows] = useState(() => {
    const l = listOf(value);
    return l.length > 0 ? l : [{} as Fields];
  });
  const change = (next: Fields[]) => {
    setRows(next);
    const full = next.filter((r) => r["of"]);
    onSet(full.length > 0 ? full : null);
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

/** The fields of a gathered item: a name, how, and of what. */
export function Totals({
  value,
  schema,
  onSet,
  shared,
}: {
  value: Fields;
  schema: Fields;
  onSet: (v: Json) => void;
  shared: Shared;
}) {
  const how = asFields(asFields(asFields(schema["additionalProperties"])["properties"])["how"]);
  const words = asFields(how["words"]);
  const ways = Array.isArray(how["enum"]) ? how["enum"].map(String) : [];
  const [rows, setRows] = useState(() =>
    Object.entries(value).map(([name, v]) => ({ name, ...asFields(v) }) as Fields),
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

export function WholeNumber({
  id,
  value,
  onSet,
}: {
  id: string;
  value: Json | undefined;
  onSet: (v: Json) => void;
}) {
  return (
    <input
      id={id}
      type="number"
      step={1}
      className="field"
      defaultValue={typeof value === "number" ? value : ""}
      onBlur={(e) => {
        const n = e.target.valueAsNumber;
        onSet(Number.isInteger(n) ? n : null);
      }}
    />
  );
}
