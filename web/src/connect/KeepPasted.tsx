import { useId, useState } from "react";
import type { Schemas } from "../api/client";
import { useKeepPasted } from "../api/connectors";
import { Badge, Trouble } from "../ui/parts";

interface Props {
  text: string;
  call: Schemas["Pasted"];
  onKept: (k: Schemas["KeptPasted"]) => void;
}

/** Keeps the call as an action of a connector that one names, and its secrets for its address only. */
export function KeepPasted({ text, call: p, onKept }: Props) {
  const found = p.secrets.filter((s) => !s.asked && !s.shown);
  const asked = p.secrets.filter((s) => s.asked);
  const [values, setValues] = useState<Record<string, string>>({});
  const [connector, setConnector] = useState(p.connector);
  const [action, setAction] = useState(p.action);
  const [connection, setConnection] = useState("");
  const keep = useKeepPasted();
  const joins = p.joins && connector === p.connector;
  return (
    <form
      className="rounded-lg border border-rule p-3"
      onSubmit={(e) => {
        e.preventDefault();
        keep.mutate(
          { text, connector, action, values, ...(connection ? { connection } : {}) },
          { onSuccess: onKept },
        );
      }}
    >
      <div className="mb-2">
        {found.length > 0 && (
          <>
            Found and taken out:{" "}
            {found.map((s) => (
              <Badge key={s.name} tone="leaf">
                {s.where} {s.hint}
              </Badge>
            ))}{" "}
          </>
        )}
        {p.secrets.length > 0 ? (
          <>
            It may be used with <span className="font-mono text-xs">{p.origin}</span> only.
          </>
        ) : (
          "It needs no sign-in. It can be kept as an action that others find."
        )}
      </div>
      {asked.map((s) => (
        <Field
          key={s.name}
          label={`${s.asked ?? ""}, ${s.where}`}
          type={s.shown ? "text" : "password"}
          value={values[s.name] ?? ""}
          onChange={(v) => {
            setValues({ ...values, [s.name]: v });
          }}
        />
      ))}
      <div className="grid gap-x-3 sm:grid-cols-3">
        <Field
          label="Connector"
          value={connector}
          onChange={setConnector}
          hint={
            joins ? "Is there already; the call joins it." : "A new one, unless there is one of this name."
          }
        />
        <Field label="Action" value={action} onChange={setAction} />
        <Field
          label="Connection"
          value={connection}
          onChange={setConnection}
          placeholder="as the connector"
        />
      </div>
      <Trouble error={keep.error} />
      <button
        className="btn btn-main"
        disabled={keep.isPending || !connector || !action || asked.some((s) => !values[s.name])}
      >
        Keep it
      </button>
    </form>
  );
}

interface FieldProps {
  label: string;
  value: string;
  onChange: (v: string) => void;
  type?: string;
  hint?: string;
  placeholder?: string;
}

function Field({ label, value, onChange, type = "text", hint, placeholder }: FieldProps) {
  const id = useId();
  return (
    <div className="mb-2.5 min-w-0">
      <label className="label" htmlFor={id}>
        {label}
      </label>
      <input
        id={id}
        type={type}
        autoComplete="off"
        spellCheck={false}
        className="field font-mono text-xs"
        value={value}
        placeholder={placeholder}
        onChange={(e) => {
          onChange(e.target.value);
        }}
      />
      {hint && <div className="hint">{hint}</div>}
    </div>
  );
}
