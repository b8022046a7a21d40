import { useState } from "react";
import { asFields, type Column, type Fields, type Json, type Line, type Schemas } from "../api/client";
import { plural } from "../ui/words";
import { useConnections } from "../api/connections";
import { useConnectors, useKinds } from "../api/connectors";
import { type Edit } from "../api/draft";
import { Field } from "../form/Field";
import { Suggested } from "../form/finder/Suggested";
import { kindOf } from "../form/kind";
import { PartOfForm } from "../form/PartOfForm";
import { partsOf } from "../form/parts";
import { Problems } from "../form/Problems";
import { Cases } from "./Cases";
import { Options } from "./Options";

interface Props {
  line: Line;
  cases: Line[]; // those of a branch
  fallback: boolean; // it has one already
  earlier: string[];
  item: Fields | undefined;
  trigger: Fields | undefined;
  row: string | undefined;
  problems: Schemas["Finding"][];
  column: Column | undefined; // how the last rehearsal went through the line
  idOf: (key: string) => string; // a line, also while it is renamed
  onEdit: (edits: Edit[]) => void;
}

type Property = Schemas["Property"];

/** The settings of a line, opened beneath its sentence. */
export function StepForm(props: Props) {
  const { line, onEdit, problems } = props;
  const kinds = useKinds();
  const connectors = useConnectors();
  const connections = useConnections();
  const [connectorName, actionName] = line.type.split(".");
  const connector = connectors.data?.connectors.find((c) => c.name === connectorName);
  const action = connector?.actions.find((a) => a.name === actionName);
  const properties: Property[] =
    action?.fields ?? kinds.data?.steps.find((k) => k.type === line.type)?.settings ?? [];
  const under = action ? "input" : "settings";
  const values = asFields(line.settings);
  const options = asFields(line.options);
  const [more, setMore] = useState(Object.keys(options).length > 0);
  const set = (key: string, value: Json) => {
    onEdit([{ op: "set", step: line.name, key, value }]);
  };
  const kind = kinds.data?.steps.find((k) => k.type === line.type);
  const wanted = action ? connectorName : kind?.needs;
  const fitting =
    connections.data?.connections.filter((c) =>
      wanted === undefined
        ? connectors.data?.connectors.find((x) => x.name === c.connector)?.web !== false
        : c.connector === wanted,
    ) ?? [];
  const shared = { item: props.item, trigger: props.trigger, row: props.row, steps: props.earlier };
  const general = problems.filter((p) => !properties.some((q) => isOf(p.path, under, q.name)));
  const problemsOf = (name: string) =>
    problems.filter((q) => isOf(q.path, under, name) && !/\.cases\[\d+\]\./.test(q.path));
  const setting = (p: Property) => (
    <Field
      key={p.name}
      id={`${line.name}-${p.name}`}
      property={p}
      value={values[p.name]}
      around={{ connection: line.connection, values, shared }}
      optional={action !== undefined}
      expressions={action !== undefined}
      onSet={(v) => {
        set(`${under}.${p.name}`, v ?? null);
      }}
      problems={problemsOf(p.name)}
    >
      {kindOf(asFields(p.schema)) === "cases" ? (
        <Cases
          cases={props.cases}
          branch={line.name}
          column={props.column}
          problems={problems}
          idOf={props.idOf}
          onEdit={onEdit}
          shared={shared}
        />
      ) : undefined}
    </Field>
  );
  return (
    <div className="space-y-3.5 pt-2 pr-1 pb-3 pl-1">
      {(action ?? kind?.connects) && (
        <div>
          <label className="label" htmlFor={`${line.name}-connection`}>
            Connection
          </label>
          <select
            id={`${line.name}-connection`}
            className="field"
            value={line.connection ?? ""}
            onChange={(e) => {
              set("connection", e.target.value || null);
            }}
          >
            <option value="">
              {(action ?? kind?.needs) ? "Choose…" : "none: the address is open to everybody"}
            </option>
            {fitting.map((c) => (
              <option key={c.name} value={c.name}>
                {c.name}
                {c.state === "broken" ? ", does not work" : ""}
              </option>
            ))}
          </select>
          <Problems list={problems.filter((p) => p.path.endsWith(".connection"))} />
          {connections.data && fitting.length === 0 && wanted !== undefined && (
            <div className="mt-1 text-amber">
              There is no connection to {connector?.title ?? wanted} yet. Add one under Connections.
            </div>
          )}
        </div>
      )}
      {action && (
        <Suggested
          wanted={properties}
          values={values}
          onTake={(list) => {
            onEdit(
              list.map((s) => ({ op: "set", step: line.name, key: `input.${s.name}`, value: s.expression })),
            );
          }}
        />
      )}
      {partsOf(properties.filter((p) => kindOf(asFields(p.schema)) !== "steps")).map((part) =>
        part.title === "" ? (
          part.properties.map(setting)
        ) : (
          <PartOfForm
            key={part.title}
            id={`${line.name}-${part.title}`}
            part={part}
            values={values}
            wrong={part.properties.some((p) => problemsOf(p.name).length > 0)}
            render={setting}
            onClear={(name) => {
              set(`${under}.${name}`, null);
            }}
          />
        ),
      )}
      <Counts line={line} column={props.column} />
      <Problems list={general.filter((p) => !p.path.endsWith(".connection"))} />
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2 text-second">
        <Name line={line} onEdit={onEdit} />
        <button
          type="button"
          className="hover:text-ink hover:underline"
          aria-expanded={more}
          onClick={() => {
            setMore(!more);
          }}
        >
          {more ? "Less" : "More…"}
        </button>
        <button
          type="button"
          className="hover:text-ink hover:underline"
          onClick={() => {
            set("off", line.off ? null : true);
          }}
        >
          {line.off ? "Switch on" : "Switch off"}
        </button>
      </div>
      {more && (
        <Options
          line={line}
          options={options}
          set={set}
          kind={kind}
          writes={action?.effect === "write"}
          fallback={props.fallback}
          onEdit={onEdit}
        />
      )}
    </div>
  );
}

/** Whether a problem stands in a setting, or in something within it. */
export const isOf = (path: string, under: string, name: string) =>
  new RegExp(`\\.${under}\\.${name}(?![a-zA-Z0-9_])`).test(path);

/** How the rows go through the line. */
function Counts({ line, column }: { line: Line; column: Column | undefined }) {
  if (!column || column.in === 0) return null;
  const n = (x: number) => x.toLocaleString("en");
  const words =
    line.type === "filter" || line.type === "take" || line.type === "distinct"
      ? `${n(column.out)} of ${n(column.in)} rows go on.`
      : line.type === "batch" || line.type === "gather"
        ? `${plural(column.in, "row")} become${column.in === 1 ? "s" : ""} ${n(column.out)}.`
        : line.type === "spread"
          ? `${plural(column.in, "row")} become${column.in === 1 ? "s" : ""} ${n(column.out)}.`
          : line.type === "loop" && column.rounds
            ? `${plural(column.rounds, "round")}.`
            : line.type === "branch" && column.ways
              ? `${column.ways
                  .filter((w) => w.name || w.count > 0)
                  .map((w) => `${w.name ? w.name.replaceAll("_", " ") : "none of them"} ${n(w.count)}`)
                  .join(", ")}.`
              : "";
  return words ? <div className="hint">{words}</div> : null;
}

function Name({ line, onEdit }: { line: Line; onEdit: (edits: Edit[]) => void }) {
  const [name, setName] = useState(line.name);
  return (
    <label className="flex items-center gap-1.5">
      Name
      <input
        className="h-7 w-28 rounded-md border border-rule bg-sheet px-1.5 text-ink"
        value={name}
        onChange={(e) => {
          setName(e.target.value);
        }}
        onBlur={() => {
          if (name !== line.name) onEdit([{ op: "rename", step: line.name, value: name }]);
        }}
        onKeyDown={(e) => {
          if (e.key === "Enter") e.currentTarget.blur();
        }}
      />
    </label>
  );
}
