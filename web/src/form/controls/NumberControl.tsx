import type { Json } from "../../api/client";
import { writeJson } from "../../api/exact";
import { ghostOf, readNumber } from "../read";
import { useTyped } from "../useTyped";
import type { ControlProps } from "./props";
import { Wrong } from "./Wrong";

const write = (v: Json | undefined) =>
  v === undefined || v === null ? "" : typeof v === "string" ? v : writeJson(v);

/** A number, or a whole number. */
export function NumberControl({ id, schema, value, onSet }: ControlProps) {
  const whole = schema["type"] === "integer";
  const typed = useTyped<HTMLInputElement>(value, write, (text) => readNumber(text, whole), onSet);
  const [least, most] = [schema["minimum"], schema["maximum"]];
  const bounds = [
    least !== undefined && `at least ${write(least)}`,
    most !== undefined && `at most ${write(most)}`,
  ];
  return (
    <>
      <input
        id={id}
        className="field w-44 max-w-full tabular-nums"
        inputMode={whole ? "numeric" : "decimal"}
        autoComplete="off"
        placeholder={ghostOf(schema, writeJson) || bounds.filter(Boolean).join(", ")}
        aria-describedby={typed.wrong ? `${id}-wrong` : undefined}
        {...typed.control}
      />
      <Wrong id={id} text={typed.wrong} />
    </>
  );
}
