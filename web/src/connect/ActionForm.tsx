import { useState } from "react";
import { asFields, type Fields, type Json, type Schemas } from "../api/client";
import { readJson, writeJson } from "../api/exact";
import { Picker } from "../workbench/Picker";

type Property = Schemas["Property"];

interface Props {
  properties: Property[];
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
  return properties.map((p) => {
    const s = asFields(p.schema);
    const id = `${prefix}-${p.name}`;
    return (
      <div key={p.name} className="mb-3">
        <label className="label" htmlFor={id}>
          {String(s["title"] ?? p.name)}
          {!p.required && <span className="font-normal text-third"> if wished</span>}
        </label>
        <Input
          id={id}
          schema={s}
          connection={connection}
          values={values}
          value={values[p.name]}
          onSet={(v) => {
            set(p.name, v);
          }}
        />
        {s["description"] ? <div className="hint mt-1">{String(s["description"])}</div> : null}
      </div>
    );
  });
}

interface InputProps {
  id: string;
  schema: Fields;
  connection: string | undefined;
  values: Fields;
  value: Json | undefined;
  onSet: (v: Json | undefined) => void;
}

const example = (s: Fields) =>
  Array.isArray(s["examples"]) && s["examples"].length > 0
    ? typeof s["examples"][0] === "string"
      ? s["examples"][0]
      : writeJson(s["examples"][0])
    : "";

function Input({ id, schema, connection, values, value, onSet }: InputProps) {
  const type = schema["type"];
  if (typeof schema["choices"] === "string")
    return (
      <Picker
        id={id}
        connection={connection}
        list={schema["choices"]}
        input={values}
        value={value}
        onPick={onSet}
      />
    );
  if (schema["hint"] === "file") return <FileInput id={id} value={value} onSet={onSet} />;
  if (Array.isArray(schema["enum"])) {
    const words = asFields(schema["words"]);
    return (
      <select
        id={id}
        className="field"
        value={value === undefined ? "" : writeJson(value)}
        onChange={(e) => {
          onSet(e.target.value === "" ? undefined : readJson(e.target.value));
        }}
      >
        <option value="">Choose…</option>
        {schema["enum"].map((v) => (
          <option key={String(v)} value={writeJson(v)}>
            {words[String(v)] ? `${String(v)}, ${String(words[String(v)])}` : String(v)}
          </option>
        ))}
      </select>
    );
  }
  if (type === "boolean") {
    return (
      <select
        id={id}
        className="field"
        value={value === undefined ? "" : String(value)}
        onChange={(e) => {
          onSet(e.target.value === "" ? undefined : e.target.value === "true");
        }}
      >
        <option value="">either</option>
        <option value="true">yes</option>
        <option value="false">no</option>
      </select>
    );
  }
  if (type === "integer" || type === "number") {
    return (
      <input
        id={id}
        className="field"
        type="number"
        step={type === "integer" ? 1 : "any"}
        placeholder={example(schema)}
        value={typeof value === "number" ? value : ""}
        onChange={(e) => {
          onSet(e.target.value === "" ? undefined : Number(e.target.value));
        }}
      />
    );
  }
  if (type === "object" || type === "array" || schema["hint"] === "json" || schema["hint"] === "fields")
    return (
      <JsonInput
        id={id}
        value={value}
        placeholder={example(schema) || (type === "array" ? '["…"]' : '{"name": "value"}')}
        onSet={onSet}
      />
    );
  if (schema["hint"] === "lines")
    return (
      <textarea
        id={id}
        className="field h-20 py-1.5"
        placeholder={example(schema)}
        value={typeof value === "string" ? value : ""}
        onChange={(e) => {
          onSet(e.target.value);
        }}
      />
    );
  return (
    <input
      id={id}
      className="field"
      placeholder={example(schema)}
      value={value === undefined ? "" : String(value)}
      onChange={(e) => {
        onSet(e.target.value);
      }}
    />
  );
}

/** A value as JSON; what cannot be read yet is kept and said. */
export function JsonInput({
  id,
  value,
  placeholder,
  onSet,
}: {
  id: string;
  value: Json | undefined;
  placeholder: string;
  onSet: (v: Json | undefined) => void;
}) {
  const [text, setText] = useState(value === undefined || value === null ? "" : writeJson(value, 2));
  const [wrong, setWrong] = useState("");
  return (
    <>
      <textarea
        id={id}
        className="field h-20 py-1.5 font-mono text-xs"
        spellCheck={false}
        placeholder={placeholder}
        value={text}
        aria-invalid={wrong !== ""}
        onChange={(e) => {
          setText(e.target.value);
          if (e.target.value.trim() === "") {
            setWrong("");
            onSet(undefined);
            return;
          }
          try {
            onSet(readJson(e.target.value));
            setWrong("");
          } catch (err) {
            setWrong(err instanceof Error ? err.message : "not JSON");
          }
        }}
      />
      {wrong && <div className="mt-1 text-amber">This is not JSON yet: {wrong}</div>}
    </>
  );
}

function FileInput({
  id,
  value,
  onSet,
}: {
  id: string;
  value: Json | undefined;
  onSet: (v: Json | undefined) => void;
}) {
  const [said, setSaid] = useState("");
  const file = asFields(value);
  const keep = async (f: File) => {
    setSaid(`Keeping ${f.name}…`);
    const res = await fetch(
      `/api/v1/files?${new URLSearchParams({ name: f.name, type: f.type || "application/octet-stream" }).toString()}`,
      { method: "POST", headers: { "Content-Type": "application/octet-stream" }, body: f },
    );
    if (res.ok) {
      onSet((await res.json()) as Json);
      setSaid("");
    } else setSaid("The file was not taken.");
  };
  return (
    <>
      <input
        id={id}
        type="file"
        className="block w-full text-second"
        onChange={(e) => {
          const f = e.target.files?.[0];
          if (f) void keep(f);
        }}
      />
      <div className="hint mt-1" role="status">
        {said ||
          (file["name"] ? `${String(file["name"])}, ${Number(file["size"]).toLocaleString("en")} bytes` : "")}
      </div>
    </>
  );
}
