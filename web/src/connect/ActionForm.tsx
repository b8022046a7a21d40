import type { Fields, Json, Schemas } from "../api/client";
import { Field } from "../form/Field";

interface Props {
  properties: Schemas["Property"][];
  connection: string | undefined;
  values: Fields;
  onChange: (values: Fields) => void;
  prefix: string;
}

/** The fields of an action, to be filled in by hand. */
export function ActionForm({ properties, connection, values, onChange, prefix }: Props) {
  if (properties.length === 0) return <div className="mb-3 text-second">This action needs nothing.</div>;
  const set = (name: string, v: Json | undefined) => {
    const rest = Object.fromEntries(Object.entries(values).filter(([k]) => k !== name));
    onChange(v === undefined || v === "" ? rest : { ...rest, [name]: v });
  };
  return (
    <div className="mb-3 space-y-3">
      {properties.map((p) => (
        <Field
          key={p.name}
          id={`${prefix}-${p.name}`}
          property={p}
          value={values[p.name]}
          around={{ connection, values }}
          optional
          onSet={(v) => {
            set(p.name, v);
          }}
        />
      ))}
    </div>
  );
}
