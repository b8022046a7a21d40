import { useParams } from "@tanstack/react-router";
import { useWorkflows } from "../../api/workflows";
import { Trouble } from "../../ui/parts";
import type { ControlProps } from "./props";

/** Another workflow of the workspace, by its name. One that is not there any more stays chosen and says so. */
export function WorkflowControl({ id, value, onSet }: ControlProps) {
  const { workflow: here } = useParams({ strict: false });
  const workflows = useWorkflows();
  const others = (workflows.data?.workflows ?? []).filter((w) => w.name !== here);
  const chosen = typeof value === "string" ? value : "";
  const gone = chosen !== "" && workflows.data !== undefined && !others.some((w) => w.name === chosen);
  return (
    <>
      <select
        id={id}
        className="field"
        value={chosen}
        disabled={workflows.isPending}
        onChange={(e) => {
          onSet(e.target.value === "" ? undefined : e.target.value);
        }}
      >
        <option value="">Choose…</option>
        {others.map((w) => (
          <option key={w.name} value={w.name}>
            {w.title === w.name ? w.name : `${w.title}, ${w.name}`}
          </option>
        ))}
        {(gone || workflows.data === undefined) && chosen !== "" && (
          <option value={chosen}>{gone ? `${chosen}, which is not there` : chosen}</option>
        )}
      </select>
      <Trouble error={workflows.error} />
    </>
  );
}
