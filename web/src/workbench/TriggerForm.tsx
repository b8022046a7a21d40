import { useState } from "react";
import { asFields, type Fields, type Json, type Rehearsal, type Schemas, type Workflow } from "../api/client";
import { useCallSheet } from "../api/workflows";
import { type Edit } from "../api/draft";
import { Waiting } from "../ui/parts";
import { useCadence } from "../api/schedule";
import { useSamples } from "../api/samples";
import { useKinds } from "../api/connectors";
import { Field } from "../form/Field";
import type { Around } from "../form/controls/props";
import { PartOfForm } from "../form/PartOfForm";
import { partsOf } from "../form/parts";
import { isOf } from "./StepForm";
import { CallSheet } from "./CallSheet";
import { Samples } from "./Samples";
import { standsAs, When } from "./When";

/** Whether a setting asks something of the item that starts it; all others are read before there is one. */
const asksOf = (p: Schemas["Property"]) => asFields(p.schema)["hint"] === "condition";

/** What starts the workflow, and its samples. */
export function TriggerForm({
  workflow,
  item,
  seen,
  onEdit,
}: {
  workflow: Workflow;
  item: Fields | undefined;
  seen: Rehearsal | undefined;
  onEdit: (edits: Edit[]) => void;
}) {
  const kinds = useKinds();
  const called = workflow.called === true;
  const sheet = useCallSheet(workflow.name, called);
  const samples = useSamples(workflow.name);
  const times = useCadence(standsAs(workflow));
  const [opened, setOpened] = useState(false);
  const settings = asFields(workflow.trigger_settings);
  const properties = kinds.data?.triggers.find((k) => k.type === workflow.trigger_type)?.settings ?? [];
  const shared = { item, trigger: item, row: undefined, steps: [] };
  const problems = (name: string) =>
    workflow.problems.filter((x) => isOf(`.${x.path}`, "settings", name) && x.path.startsWith("trigger."));
  // All at once: what comes bit by bit would move what is already there.
  const reading = kinds.isPending || samples.isPending || sheet.isLoading || (times.isLoading && !opened);
  if (!reading && !opened) setOpened(true);
  if (reading) return <Waiting what="Reading what starts it" />;
  const field = (p: Schemas["Property"]) => (
    <Field
      key={`${workflow.trigger_type} ${p.name}`}
      id={`trigger-${p.name}`}
      property={p}
      value={settings[p.name]}
      around={{ connection: undefined, values: settings, shared: asksOf(p) ? shared : undefined }}
      problems={problems(p.name)}
      onSet={(v) => {
        onEdit([{ op: "trigger", key: `settings.${p.name}`, value: v ?? null }]);
      }}
    />
  );
  return (
    <div className="space-y-3.5 pt-2 pb-3">
      <KindOfTrigger workflow={workflow} kinds={kinds.data?.triggers ?? []} onEdit={onEdit} />
      {called && <CallSheet workflow={workflow.name} saved={workflow.version} />}
      {workflow.timed && <When workflow={workflow} onEdit={onEdit} />}
      {partsOf(properties).map((part) =>
        part.title === "" ? (
          part.properties.map(field)
        ) : (
          <PartOfForm
            key={part.title}
            id="trigger"
            part={part}
            values={workflow.timed && part.title === "In fields" ? {} : settings}
            wrong={part.properties.some((p) => problems(p.name).length > 0)}
            render={field}
            onClear={(name) => {
              onEdit([{ op: "trigger", key: `settings.${name}`, value: null }]);
            }}
          />
        ),
      )}
      <Limits workflow={workflow} properties={kinds.data?.limits ?? []} shared={shared} onEdit={onEdit} />
      <Samples
        workflow={workflow.name}
        title={workflow.title}
        live={workflow.state === "live" || workflow.state === "paused"}
        called={called}
        hosted={sheet.data?.page === true}
        timed={workflow.timed === true}
        seen={seen}
      />
    </div>
  );
}

/** What kind of thing starts it. Another one has settings of its own. */
function KindOfTrigger({
  workflow,
  kinds,
  onEdit,
}: {
  workflow: Workflow;
  kinds: Schemas["Kind"][];
  onEdit: (edits: Edit[]) => void;
}) {
  const help = kinds.find((k) => k.type === workflow.trigger_type)?.help;
  return (
    <div>
      <label className="label" htmlFor="trigger-type">
        What starts it
      </label>
      <select
        id="trigger-type"
        className="field"
        value={workflow.trigger_type}
        onChange={(e) => {
          onEdit([
            { op: "trigger", key: "type", value: e.target.value },
            { op: "trigger", key: "settings", value: null },
          ]);
        }}
      >
        {kinds.map((k) => (
          <option key={k.type} value={k.type}>
            {k.title}
          </option>
        ))}
      </select>
      {help && <div className="hint mt-1">{help}</div>}
    </div>
  );
}

/** What bounds the runs of the workflow. */
function Limits({
  workflow,
  properties,
  shared,
  onEdit,
}: {
  workflow: Workflow;
  properties: Schemas["Property"][];
  shared: Around["shared"];
  onEdit: (edits: Edit[]) => void;
}) {
  const limits = asFields(workflow.limits);
  const problems = (name: string) => workflow.problems.filter((x) => isOf(`.${x.path}`, "limits", name));
  const set = (name: string, v: Json) => {
    onEdit([{ op: "set", key: `limits.${name}`, value: v }]);
  };
  return partsOf(properties).map((part) => (
    <PartOfForm
      key={part.title}
      id="limits"
      part={part}
      values={limits}
      wrong={part.properties.some((p) => problems(p.name).length > 0)}
      render={(p) => (
        <Field
          key={p.name}
          id={`limits-${p.name}`}
          property={p}
          value={limits[p.name]}
          around={{ connection: undefined, values: limits, shared }}
          problems={problems(p.name)}
          onSet={(v) => {
            set(p.name, v ?? null);
          }}
        />
      )}
      onClear={(name) => {
        set(name, null);
      }}
    />
  ));
}
