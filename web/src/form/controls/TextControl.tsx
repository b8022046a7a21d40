import type { Json } from "../../api/client";
import { writeJson } from "../../api/exact";
import { ghostOf } from "../read";
import { useTyped } from "../useTyped";
import type { ControlProps } from "./props";

const write = (v: Json | undefined) =>
  v === undefined || v === null ? "" : typeof v === "string" ? v : writeJson(v);
const read = (text: string) => ({ value: text === "" ? undefined : text });

/** One line of text. */
export function TextControl({ id, schema, value, onSet, required }: ControlProps) {
  const typed = useTyped<HTMLInputElement>(value, write, read, onSet);
  return (
    <input
      id={id}
      required={required}
      className="field"
      placeholder={ghostOf(schema, writeJson)}
      {...typed.control}
    />
  );
}

/** Text of several lines. */
export function LongTextControl({ id, schema, value, onSet, required }: ControlProps) {
  const typed = useTyped<HTMLTextAreaElement>(value, write, read, onSet);
  return (
    <textarea
      id={id}
      required={required}
      className="field h-24 py-1.5"
      placeholder={ghostOf(schema, writeJson)}
      {...typed.control}
    />
  );
}

/** Text that is not shown. */
export function SecretControl({ id, schema, value, onSet, required }: ControlProps) {
  const typed = useTyped<HTMLInputElement>(value, write, read, onSet);
  return (
    <input
      id={id}
      required={required}
      type="password"
      autoComplete="off"
      className="field font-mono text-xs"
      placeholder={ghostOf(schema, writeJson)}
      {...typed.control}
    />
  );
}
