import { Plus, X } from "lucide-react";
import { asFields, type Column, type Finding, type Line } from "../api/client";
import type { Edit } from "../api/draft";
import type { Shared } from "../form/controls/props";
import { ExpressionField } from "../form/ExpressionField";
import { plural } from "../ui/words";
import { named } from "./CaseForm";
import { freshCase } from "./lines";
import { ProblemText } from "./parts";

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
