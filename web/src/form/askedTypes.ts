import { plainName } from "../ui/names";
import { readList } from "./read";
import { asFields, type Fields, type Json } from "../api/client";

/** What somebody can be asked for, with the JSON Schema that says so. */
export const askedTypes: { name: string; words: string; schema: Fields }[] = [
  { name: "text", words: "text", schema: { type: "string" } },
  { name: "long", words: "long text", schema: { type: "string", hint: "lines" } },
  { name: "number", words: "number", schema: { type: "number" } },
  { name: "whole", words: "whole number", schema: { type: "integer" } },
  { name: "mail", words: "mail address", schema: { type: "string", format: "email" } },
  { name: "phone", words: "telephone number", schema: { type: "string", hint: "phone" } },
  { name: "address", words: "web address", schema: { type: "string", format: "uri" } },
  { name: "yes_no", words: "yes or no", schema: { type: "boolean" } },
  { name: "consent", words: "consent", schema: { type: "boolean", const: true } },
  { name: "one_of", words: "one of …", schema: { enum: [] } },
  { name: "several", words: "several of …", schema: { type: "array", items: { enum: [] } } },
  { name: "of_list", words: "one of a list", schema: { type: "string", from_list: "" } },
  { name: "list", words: "list of texts", schema: { type: "array", items: { type: "string" } } },
  { name: "date", words: "date", schema: { type: "string", format: "date" } },
  { name: "clock", words: "time of day", schema: { type: "string", hint: "time" } },
  { name: "moment", words: "date and time", schema: { type: "string", format: "date-time" } },
  { name: "file", words: "file", schema: { hint: "file" } },
];

/** What stands beside the type in a field: it stays when the type is changed. */
const beside = ["name", "required", "title", "description", "default", "examples"];

const byFormat: Partial<Record<string, string>> = {
  date: "date",
  "date-time": "moment",
  email: "mail",
  uri: "address",
};
const byHint: Partial<Record<string, string>> = { lines: "long", phone: "phone", time: "clock" };

/** The type of a field; undefined for one that only the text of the workflow says. */
export function askedType(field: Fields): string | undefined {
  if (field["hint"] === "file") return "file";
  if (typeof field["from_list"] === "string") return "of_list";
  if (Array.isArray(field["enum"])) return "one_of";
  const items = asFields(field["items"]);
  switch (field["type"]) {
    case "string":
      return byFormat[String(field["format"])] ?? byHint[String(field["hint"])] ?? "text";
    case undefined:
      return "text";
    case "number":
      return "number";
    case "integer":
      return "whole";
    case "boolean":
      return field["const"] === true ? "consent" : "yes_no";
    case "array":
      return Array.isArray(items["enum"]) ? "several" : items["type"] === "string" ? "list" : undefined;
  }
  return undefined;
}

/** The values that a field can have, where it has only some. */
export function choicesOf(field: Fields): Json[] | undefined {
  const list = field["enum"] ?? asFields(field["items"])["enum"];
  return Array.isArray(list) ? list : undefined;
}

/** A field with another type. What it can be is kept from one kind of choice to the other. */
export function withType(field: Fields, name: string): Fields {
  const kept = Object.fromEntries(Object.entries(field).filter(([k]) => beside.includes(k)));
  const schema = askedTypes.find((t) => t.name === name)?.schema ?? {};
  return withChoices({ ...kept, ...schema }, choicesOf(field) ?? []);
}

/** A field with other values that it can have. */
export function withChoices(field: Fields, list: Json[]): Fields {
  if (Array.isArray(field["enum"])) return { ...field, enum: list };
  const items = asFields(field["items"]);
  return Array.isArray(items["enum"]) ? { ...field, items: { ...items, enum: list } } : field;
}

/** Types by what they are called in a pasted line. */
const saidAs: [RegExp, string][] = [
  [/^(e-?mail|mail)/, "mail"],
  [/^(phone|telephone|mobile)/, "phone"],
  [/^(long|notes?$|message|comments?)/, "long"],
  [/^(whole|count|quantity)/, "whole"],
  [/^(number|amount|price)/, "number"],
  [/^date and time|^moment/, "moment"],
  [/^(date|day)/, "date"],
  [/^(time|hour)/, "clock"],
  [/^(file|picture|photo|attachment)/, "file"],
  [/^(yes|tick)/, "yes_no"],
  [/^consent|^i agree/, "consent"],
  [/^(link|web ?site|url|web address)/, "address"],
];

/**
 * Fields of a pasted list: one on each line. A star at its end makes it one that must be filled in, brackets
 * say what it takes, and what stands behind a colon is what it can be: "Mail (email) *", "Cone: 6, 9, 10".
 */
export function pastedFields(list: string, taken: string[]): Fields[] {
  const names = [...taken];
  return list
    .split("\n")
    .map((line) => line.replace(/^\s*(?:[-•]|\d+[.)])\s*/, "").trim())
    .filter((line) => line !== "")
    .map((line) => {
      const required = /\*\s*$/.test(line);
      const bare = line.replace(/\s*\*\s*$/, "");
      const [, title = bare, choices] = /^([^:]+):\s*(.+)$/.exec(bare) ?? [];
      const [, shown = title, said] = /^(.*?)\s*\(([^)]+)\)$/.exec(title) ?? [];
      const type = saidAs.find(([as]) => as.test((said ?? shown).toLowerCase()))?.[1];
      const name = nameOf(shown, names);
      names.push(name);
      const field = withType(
        { name, title: said && !type ? title : shown },
        choices ? "one_of" : (type ?? "text"),
      );
      const whole = choices ? withChoices(field, readList(choices)) : field;
      return required ? { ...whole, required: true } : whole;
    });
}

/** The name that a title gives a field: letters, digits and _. */
export function nameOf(title: string, taken: string[]): string {
  const base = plainName(title).slice(0, 50) || "field";
  let name = base;
  for (let n = 2; taken.includes(name); n++) name = `${base}_${String(n)}`;
  return name;
}
