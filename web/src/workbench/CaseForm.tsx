import { asFields, type Fields, type Finding, type Line } from "../api/client";
import type { Edit } from "../api/draft";
import { ExpressionField } from "../form/ExpressionField";
import { ProblemText } from "./parts";

interface Props {
  line: Line;
  problems: Finding[];
  count: string;
  shared: { item: Fields | undefined; trigger: Fields | undefined; row: string | undefined; steps: string[] };
  onEdit: (edits: Edit[]) => void;
}

/** What leads into a case, a fallback, or what is done when a run fails. */
export function CaseForm({ line, problems, count, shared, onEdit }: Props) {
  const key = line.inside ?? line.name;
  if (line.type === "fallback")
    return (
      <Words>
        An item for which the line above fails comes here. <code>error.message</code> says why. What these
        lines give goes on behind it.
      </Words>
    );
  if (line.type === "on_failure")
    return (
      <Words>
        These lines are done once when a run fails. <code>item.message</code>, <code>item.step</code> and{" "}
        <code>item.label</code> say what happened.
      </Words>
    );
  if (line.name === "else")
    return (
      <Words>Items for which no case holds come here{count && `: ${count} in the last rehearsal`}.</Words>
    );
  return (
    <div className="space-y-3 pt-2 pb-3">
      <div>
        <label className="label" htmlFor={`${key}-name`}>
          Name of the case
        </label>
        <input
          id={`${key}-name`}
          className="field"
          defaultValue={line.name}
          onKeyDown={(e) => {
            if (e.key === "Enter") e.currentTarget.blur();
          }}
          onBlur={(e) => {
            const name = named(e.target.value);
            e.target.value = name || line.name;
            if (name && name !== line.name) onEdit([{ op: "rename", step: key, value: name }]);
          }}
        />
      </div>
      <div>
        <div className="label">When</div>
        <ExpressionField
          label="When"
          template={false}
          value={String(asFields(line.settings)["when"] ?? "")}
          onChange={(v) => {
            onEdit([{ op: "set", step: key, key: "when", value: v }]);
          }}
          placeholder='item.priority == "urgent"'
          {...shared}
        />
        {count && <div className="hint mt-1">{count} in the last rehearsal.</div>}
        {problems.map((p, i) => (
          <ProblemText key={i} p={p} />
        ))}
      </div>
    </div>
  );
}

const Words = ({ children }: { children: React.ReactNode }) => (
  <div className="hint pt-1 pb-3">{children}</div>
);

export const named = (text: string) =>
  text
    .toLowerCase()
    .replace(/[^a-z0-9_]+/g, "_")
    .replace(/^[^a-z]+/, "")
    .replace(/_+$/, "")
    .slice(0, 40);
