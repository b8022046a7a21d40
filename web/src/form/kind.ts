import { asFields, type Fields } from "../api/client";
import { fieldsOf } from "./schema";

/** What a field is filled in with. */
export type Kind =
  | "picker"
  | "expression"
  | "cases"
  | "sort_keys"
  | "totals"
  | "keep"
  | "steps"
  | "yes_no"
  | "whole"
  | "number"
  | "one_of"
  | "several"
  | "list"
  | "rows"
  | "asked"
  | "workflow"
  | "workspace_list"
  | "list_row"
  | "pairs"
  | "json"
  | "date"
  | "moment"
  | "duration"
  | "secret"
  | "file"
  | "long_text"
  | "text";

/** Hints that say the control by themselves. */
const byHint: Partial<Record<string, Kind>> = {
  condition: "expression",
  cases: "cases",
  sort_keys: "sort_keys",
  totals: "totals",
  keep: "keep",
  steps: "steps",
  duration: "duration",
  json: "json",
  list: "list",
  secret: "secret",
  file: "file",
  lines: "long_text",
  asked: "asked",
  workflow: "workflow",
  workspace_list: "workspace_list",
};

/** The longest text that has room in one line. */
const oneLine = 200;

/** The control of a field, by its schema and its hint. */
export function kindOf(schema: Fields): Kind {
  if (typeof schema["choices"] === "string") return "picker";
  if (typeof schema["from_list"] === "string") return "list_row";
  const hinted = byHint[String(schema["hint"])];
  if (hinted) return hinted;
  if (Array.isArray(schema["enum"]) || Array.isArray(schema["usual"])) return "one_of";
  switch (schema["type"]) {
    case "boolean":
      return "yes_no";
    case "integer":
      return "whole";
    case "number":
      return "number";
    case "array":
      return arrayOf(asFields(schema["items"]));
    case "object":
      return "pairs";
    case "string":
      return textOf(schema);
  }
  return "text";
}

/** How many fields of objects have room beside each other. */
const mostColumns = 5;
const inCell = new Set<Kind>(["text", "number", "whole", "one_of", "yes_no"]);

function arrayOf(items: Fields): Kind {
  if (Array.isArray(items["enum"])) return "several";
  if (items["type"] === "string") return "list";
  const columns = fieldsOf(items).map((p) => kindOf(asFields(p.schema)));
  return columns.length > 0 && columns.length <= mostColumns && columns.every((k) => inCell.has(k))
    ? "rows"
    : "json";
}

function textOf(schema: Fields): Kind {
  if (schema["writeOnly"] === true) return "secret";
  if (schema["format"] === "date") return "date";
  if (schema["format"] === "date-time") return "moment";
  return typeof schema["maxLength"] === "number" && schema["maxLength"] > oneLine ? "long_text" : "text";
}

/** Kinds that take an expression in place of what they are filled in with. */
const second = new Set<Kind>([
  "picker",
  "yes_no",
  "whole",
  "number",
  "one_of",
  "several",
  "list",
  "rows",
  "pairs",
  "json",
  "date",
  "moment",
  "duration",
  "file",
]);

export const hasSecondWay = (kind: Kind) => second.has(kind);

/** Whether a value is written with an expression in it. */
export const isExpression = (v: unknown): v is string => typeof v === "string" && v.includes("(=");
