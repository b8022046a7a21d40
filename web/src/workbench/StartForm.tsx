import { Dialog } from "radix-ui";
import { useState } from "react";
import { asFields, Refusal, type Fields, type Json, type Schemas } from "../api/client";
import { useSamples } from "../api/samples";
import { Field } from "../form/Field";
import { JsonControl } from "../form/controls/ListControls";
import { Trouble } from "../ui/parts";

interface Props {
  workflow: string;
  fields: Schemas["Property"][]; // none: any item starts it
  error: unknown;
  busy: boolean;
  onStart: (item: Fields) => void;
}

/** What a run starts with: the fields that it asks for, or an item, filled in by hand or from a sample. */
export function StartForm({ workflow, fields, error, busy, onStart }: Props) {
  const samples = useSamples(workflow).data?.samples ?? [];
  const [values, setValues] = useState<Fields>({});
  const [from, setFrom] = useState("");
  const wrong = error instanceof Refusal ? error.fields : [];
  const unplaced = wrong.some((w) => !fields.some((f) => isWithin(w.field, f.name)));
  const set = (name: string, v: Json | undefined) => {
    setValues((now) => {
      const rest = Object.fromEntries(Object.entries(now).filter(([k]) => k !== name));
      return v === undefined ? rest : { ...rest, [name]: v };
    });
  };
  return (
    <form
      className="space-y-3.5"
      onSubmit={(e) => {
        e.preventDefault();
        onStart(values);
      }}
    >
      {samples.length > 0 && (
        <FromSample
          samples={samples}
          chosen={from}
          onChoose={(id) => {
            setFrom(id);
            setValues(asFields(samples.find((s) => s.id === id)?.fields));
          }}
        />
      )}
      <div key={from} className="space-y-3.5">
        {fields.map((p) => (
          <Field
            key={p.name}
            id={`start-${p.name}`}
            property={p}
            value={values[p.name]}
            around={{ connection: undefined, values }}
            optional
            problems={wrong.filter((w) => isWithin(w.field, p.name)).map((w) => asFinding(w))}
            onSet={(v) => {
              set(p.name, v);
            }}
          />
        ))}
        {fields.length === 0 && (
          <div>
            <label className="label" htmlFor="start-item">
              The item that it starts with, as JSON
            </label>
            <JsonControl
              id="start-item"
              label="The item"
              schema={{ type: "object" }}
              value={from === "" ? undefined : values}
              problems={[]}
              around={{ connection: undefined, values }}
              onSet={(v) => {
                setValues(asFields(v));
              }}
            />
          </div>
        )}
      </div>
      {(wrong.length === 0 || unplaced) && <Trouble error={error} />}
      <div className="flex justify-end gap-2">
        <Dialog.Close className="btn">Not now</Dialog.Close>
        <button className="btn btn-main" disabled={busy}>
          {busy ? "Starting…" : "Start"}
        </button>
      </div>
    </form>
  );
}

function FromSample({
  samples,
  chosen,
  onChoose,
}: {
  samples: Schemas["Sample"][];
  chosen: string;
  onChoose: (id: string) => void;
}) {
  return (
    <div>
      <label className="label" htmlFor="start-from">
        Fill in from a sample
      </label>
      <select
        id="start-from"
        className="field"
        value={chosen}
        onChange={(e) => {
          onChoose(e.target.value);
        }}
      >
        <option value="">by hand</option>
        {samples.map((s, i) => (
          <option key={s.id} value={s.id}>
            {s.label || `Sample ${String(i + 1)}`}
          </option>
        ))}
      </select>
    </div>
  );
}

/** Whether a place, as lines[0].litres, is a field or something in it. */
const isWithin = (place: string, name: string) =>
  place === name || place.startsWith(`${name}.`) || place.startsWith(`${name}[`);

const asFinding = (w: { field: string; message: string }): Schemas["Finding"] => ({
  severity: "error",
  path: w.field,
  message: w.message,
  line: 0,
  column: 0,
});
