import type { Connector, Json } from "../api/client";
import { likely } from "./scheme";

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

/** Offers the address that was likely meant where one stands there without its scheme. */
export function Meant({ typed, onTake }: { typed: Json | undefined; onTake: (v: string) => void }) {
  const meant = typeof typed === "string" ? likely(typed) : undefined;
  if (!meant) return null;
  return (
    <div className="hint" role="status">
      An address begins with https:// or http://.{" "}
      <button
        type="button"
        className="text-leafink underline break-all"
        onClick={() => {
          onTake(meant);
        }}
      >
        Use {meant}
      </button>
    </div>
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
