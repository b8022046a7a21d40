import { asFields, type Column, type Fields, type Json, type Line, type Schemas } from "../api/client";
import { useConnectors, useKinds } from "../api/connectors";
import { type Edit } from "../api/draft";
import { Field } from "../form/Field";
import { Suggested } from "../form/finder/Suggested";
import { kindOf } from "../form/kind";
import { PartOfForm } from "../form/PartOfForm";
import { partsOf } from "../form/parts";
import { Problems } from "../form/Problems";
import { Cases } from "./Cases";
import { ConnectionField, wantedOf } from "./ConnectionField";
import { Counts } from "./Counts";
import { LineFoot } from "./LineFoot";

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
  const [connectorName, actionName] = line.type.split(".");
  const connector = connectors.data?.connectors.find((c) => c.name === connectorName);
  const action = connector?.actions.find((a) => a.name === actionName);
  const properties: Property[] =
    action?.fields ?? kinds.data?.steps.find((k) => k.type === line.type)?.settings ?? [];
  const under = action ? "input" : "settings";
  const values = asFields(line.settings);
  const set = (key: string, value: Json) => {
    onEdit([{ op: "set", step: line.name, key, value }]);
  };
  const kind = kinds.data?.steps.find((k) => k.type === line.type);
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
        <ConnectionField
          line={line}
          connectors={connectors.data?.connectors ?? []}
          wanted={wantedOf(line, kind, action !== undefined)}
          required={action !== undefined || kind?.needs !== undefined}
          problems={problems.filter((p) => p.path.endsWith(".connection"))}
          onSet={(name) => {
            set("connection", name);
          }}
        />
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
      <LineFoot
        line={line}
        kind={kind}
        writes={action?.effect === "write"}
        fallback={props.fallback}
        set={set}
        onEdit={onEdit}
      />
    </div>
  );
}

/** Whether a problem stands in a setting, or in something within it. */
export const isOf = (path: string, under: string, name: string) =>
  new RegExp(`\\.${under}\\.${name}(?![a-zA-Z0-9_])`).test(path);
