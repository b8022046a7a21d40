import { asFields, type Fields, type Json } from "../../api/client";
import { readJson, writeJson } from "../../api/exact";
import type { ControlProps } from "./props";

const wordOf = (schema: Fields, v: Json) => {
  const w = asFields(schema["words"])[String(v)];
  return w ? `${String(v)}, ${String(w)}` : String(v);
};

/** One of some values. What counts where nothing is said stands first; one that is none of the usual stays. */
export function OneOfControl({ id, schema, value, onSet }: ControlProps) {
  const preset = schema["default"];
  const known = Array.isArray(schema["enum"]) ? schema["enum"] : schema["usual"];
  const list = Array.isArray(known) ? [...known] : [];
  if (typeof value === "string" && !Array.isArray(schema["enum"]) && !list.includes(value)) list.push(value);
  return (
    <select
      id={id}
      className="field"
      value={value === undefined || value === null ? "" : writeJson(value)}
      onChange={(e) => {
        onSet(e.target.value === "" ? undefined : readJson(e.target.value));
      }}
    >
      <option value="">{preset !== undefined ? wordOf(schema, preset) : "Choose…"}</option>
      {list
        .filter((v) => v !== preset || v === value)
        .map((v) => (
          <option key={String(v)} value={writeJson(v)}>
            {wordOf(schema, v)}
          </option>
        ))}
    </select>
  );
}

/** Yes, no, or neither said. */
export function YesNoControl({ id, label, schema, value, onSet }: ControlProps) {
  const preset = schema["default"];
  const ways: [string, Json | undefined][] = [
    ["yes", true],
    ["no", false],
    [preset === undefined ? "not said" : `as usual: ${preset === true ? "yes" : "no"}`, undefined],
  ];
  return (
    <div role="radiogroup" aria-label={label} className="flex gap-4 py-1">
      {ways.map(([words, v], i) => (
        <label key={words} className="flex items-center gap-1.5">
          <input
            id={i === 0 ? id : undefined}
            type="radio"
            className="accent-leaf"
            name={id}
            checked={(value ?? undefined) === v}
            onChange={() => {
              onSet(v);
            }}
          />
          {words}
        </label>
      ))}
    </div>
  );
}

/** Several of some values. */
export function SeveralControl({ id, label, schema, value, onSet }: ControlProps) {
  const items = asFields(schema["items"]);
  const list = Array.isArray(items["enum"]) ? items["enum"] : [];
  const chosen = Array.isArray(value) ? value : [];
  return (
    <div role="group" aria-label={label} className="flex flex-wrap gap-x-4 gap-y-1 py-1">
      {list.map((v, i) => (
        <label key={String(v)} className="flex items-center gap-1.5">
          <input
            id={i === 0 ? id : undefined}
            type="checkbox"
            className="accent-leaf"
            checked={chosen.includes(v)}
            onChange={(e) => {
              const next = list.filter((x) => (x === v ? e.target.checked : chosen.includes(x)));
              onSet(next.length > 0 ? next : undefined);
            }}
          />
          {wordOf(items, v)}
        </label>
      ))}
    </div>
  );
}
