import { asFields, type Fields, type Schemas } from "../api/client";
import { titleOf } from "./schema";

type Property = Schemas["Property"];

/** A part of a long form. */
export interface Part {
  title: string; // "" for what always stands open
  one: boolean; // only one of its fields is filled in
  properties: Property[];
}

/** The parts of a form, in the order of their first fields. */
export function partsOf(properties: Property[]): Part[] {
  const parts = new Map<string, Part>();
  for (const p of properties) {
    const schema = asFields(p.schema);
    const title = typeof schema["part"] === "string" ? schema["part"] : "";
    const part = parts.get(title) ?? { title, one: schema["one"] === true, properties: [] };
    part.properties.push(p);
    parts.set(title, part);
  }
  return [...parts.values()];
}

/** The fields of a part that hold something. */
export const filledOf = (part: Part, values: Fields) =>
  part.properties.filter((p) => values[p.name] !== undefined && values[p.name] !== null);

/** What a closed part says of itself. */
export function closedWords(part: Part, values: Fields): string {
  const filled = filledOf(part, values);
  const [only] = part.properties;
  if (only && part.properties.length === 1) {
    const help = asFields(only.schema)["description"];
    return filled.length > 0 ? "filled in" : typeof help === "string" ? help : "";
  }
  if (filled.length > 0) return filled.map((p) => titleOf(p)).join(", ");
  return part.one ? "none" : part.properties.map((p) => titleOf(p)).join(", ");
}
