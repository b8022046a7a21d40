import type { Connector } from "../api/client";

type Way = Connector["sign_in"][number];

/** Something that is asked for to sign in: a secret unless it may be shown. */
export function SecretField({
  of: f,
  value,
  onSet,
}: {
  of: Way["secrets"][number];
  value: string;
  onSet: (v: string) => void;
}) {
  return (
    <div className="mb-3.5">
      <label className="label" htmlFor={`secret-${f.name}`}>
        {f.title}
        {!f.required && <span className="font-normal text-third"> if there is one</span>}
      </label>
      <input
        id={`secret-${f.name}`}
        className="field font-mono"
        type={f.shown ? "text" : "password"}
        autoComplete="off"
        required={f.required}
        value={value}
        onChange={(e) => {
          onSet(e.target.value);
        }}
      />
    </div>
  );
}

/** What the account may be used for on the other side. */
export function Scopes({
  list,
  chosen,
  onChoose,
}: {
  list: NonNullable<Way["scopes"]>;
  chosen: string[];
  onChoose: (names: string[]) => void;
}) {
  return (
    <fieldset className="mb-3.5">
      <legend className="label">What it may do there</legend>
      {list.map((s) => (
        <label key={s.name} className="mb-1 flex items-center gap-2">
          <input
            type="checkbox"
            className="accent-leaf"
            disabled={s.always}
            checked={s.always || chosen.includes(s.name)}
            onChange={(e) => {
              onChoose(e.target.checked ? [...chosen, s.name] : chosen.filter((x) => x !== s.name));
            }}
          />
          {s.title} <span className="font-mono text-xs text-third">{s.name}</span>
        </label>
      ))}
    </fieldset>
  );
}

/** The name of the connection in this workspace. */
export function CalledHere({ name, onSet }: { name: string; onSet: (v: string) => void }) {
  return (
    <div className="mb-4">
      <label className="label" htmlFor="connection-name">
        What to call it here
      </label>
      <input
        id="connection-name"
        className="field"
        required
        pattern="[a-z][a-z0-9\-]*"
        title="Small letters, digits and hyphens"
        value={name}
        onChange={(e) => {
          onSet(e.target.value);
        }}
      />
    </div>
  );
}
