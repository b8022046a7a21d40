import { useParams } from "@tanstack/react-router";
import { useDeferredValue, useId, useState } from "react";
import { asFields, type Json } from "../../api/client";
import { useList, useListRows, useLists } from "../../api/lists";
import { useWorkflows } from "../../api/workflows";
import { cellText } from "../../lists/words";
import { Trouble } from "../../ui/parts";
import type { ControlProps } from "./props";

/** Another workflow of the workspace, by its name. */
export function WorkflowControl(props: ControlProps) {
  const { workflow: here } = useParams({ strict: false });
  const workflows = useWorkflows();
  const others = workflows.data?.workflows.filter((w) => w.name !== here);
  return <Named {...props} all={others} error={workflows.error} />;
}

/** A list of the workspace, by its name. */
export function WorkspaceListControl(props: ControlProps) {
  const lists = useLists();
  return <Named {...props} all={lists.data?.lists} error={lists.error} />;
}

/** One of some by their names. One that is not there any more stays chosen and says so. */
function Named({
  id,
  value,
  onSet,
  all,
  error,
}: ControlProps & { all: { name: string; title: string }[] | undefined; error: unknown }) {
  const chosen = typeof value === "string" ? value : "";
  const gone = chosen !== "" && all !== undefined && !all.some((x) => x.name === chosen);
  return (
    <>
      <select
        id={id}
        className="field"
        value={chosen}
        disabled={all === undefined && !error}
        onChange={(e) => {
          onSet(e.target.value === "" ? undefined : e.target.value);
        }}
      >
        <option value="">Choose…</option>
        {all?.map((x) => (
          <option key={x.name} value={x.name}>
            {x.title === x.name ? x.name : `${x.title}, ${x.name}`}
          </option>
        ))}
        {(gone || all === undefined) && chosen !== "" && (
          <option value={chosen}>{gone ? `${chosen}, which is not there` : chosen}</option>
        )}
      </select>
      <Trouble error={error} />
    </>
  );
}

/** A row of a list, by what it is known by; found by whatever it holds. */
export function ListRowControl({ id, schema, value, onSet, required }: ControlProps) {
  const name = String(schema["from_list"]);
  const list = useList(name);
  const [typed, setTyped] = useState(typeof value === "string" ? value : "");
  const rows = useListRows(name, list.data?.version ?? 0, useDeferredValue(typed.trim()));
  const options = useId();
  const second = list.data?.columns[1]?.name;
  return (
    <>
      <input
        id={id}
        className="field"
        list={options}
        required={required}
        autoComplete="off"
        placeholder={list.data ? `One of ${list.data.title}` : ""}
        value={typed}
        onChange={(e) => {
          setTyped(e.target.value);
          onSet(e.target.value === "" ? undefined : e.target.value);
        }}
      />
      <datalist id={options}>
        {rows.data?.pages[0]?.rows.map((r) => (
          <option key={r.key} value={r.key}>
            {second && cellText(asFields(r.fields)[second] as Json | undefined)}
          </option>
        ))}
      </datalist>
      <Trouble error={list.error ?? rows.error} />
    </>
  );
}
