import type { Json } from "../../api/client";
import { writeJson } from "../../api/exact";
import { ghostOf, readAsJson, readList } from "../read";
import { useTyped } from "../useTyped";
import type { ControlProps } from "./props";
import { Wrong } from "./Wrong";

const joined = (v: Json | undefined) => (Array.isArray(v) ? v.map(String).join(", ") : "");

/** A list of short texts, with commas between them. */
export function ListControl({ id, schema, value, onSet }: ControlProps) {
  const typed = useTyped<HTMLInputElement>(
    value,
    joined,
    (text) => {
      const list = readList(text);
      return { value: list.length > 0 ? list : undefined };
    },
    onSet,
  );
  return (
    <input
      id={id}
      className="field"
      placeholder={ghostOf(schema, joined) || "with commas between them"}
      {...typed.control}
    />
  );
}

const written = (v: Json | undefined) => (v === undefined || v === null ? "" : writeJson(v, 2));

/** A value as JSON; what cannot be read yet is kept and said. */
export function JsonControl({ id, schema, value, onSet }: ControlProps) {
  const typed = useTyped<HTMLTextAreaElement>(value, written, readAsJson, onSet);
  return (
    <>
      <textarea
        id={id}
        className="field h-24 py-1.5 font-mono text-xs"
        spellCheck={false}
        placeholder={
          ghostOf(schema, (v) => writeJson(v)) || (schema["type"] === "array" ? '["…"]' : '{"name": "value"}')
        }
        aria-describedby={typed.wrong ? `${id}-wrong` : undefined}
        {...typed.control}
      />
      <Wrong id={id} text={typed.wrong} />
    </>
  );
}
