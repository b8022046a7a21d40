import type { Json } from "../../api/client";
import { writeJson } from "../../api/exact";
import { ExpressionField } from "../ExpressionField";
import { exampleOf } from "../read";
import { noRow, type ControlProps } from "./props";

const written = (v: Json | undefined) =>
  v === undefined || v === null ? "" : typeof v === "string" ? v : writeJson(v);

/** One expression. */
export function ExpressionControl({ label, schema, value, onSet, around }: ControlProps) {
  return (
    <ExpressionField
      label={label}
      template={false}
      value={written(value)}
      onChange={(v) => {
        onSet(v || undefined);
      }}
      placeholder={exampleOf(schema, writeJson)}
      {...(around.shared ?? noRow)}
    />
  );
}

/** Text in which expressions may stand. */
export function TemplateControl({ label, schema, value, onSet, around }: ControlProps) {
  return (
    <ExpressionField
      label={label}
      template
      value={written(value)}
      onChange={(v) => {
        onSet(v === "" ? undefined : v);
      }}
      placeholder={exampleOf(schema, writeJson)}
      {...(around.shared ?? noRow)}
    />
  );
}
