import { asFields, type Fields, type Schemas } from "../api/client";

type Property = Schemas["Property"];

/** The fields that the schema of an object names. */
export function fieldsOf(schema: Fields): Property[] {
  const required = Array.isArray(schema["required"]) ? schema["required"] : [];
  return Object.entries(asFields(schema["properties"])).map(([name, s]) => ({
    name,
    required: required.includes(name),
    schema: asFields(s),
  }));
}

/** What a field is called for people. */
export const titleOf = (p: Property) => {
  const title = asFields(p.schema)["title"];
  return typeof title === "string" ? title : p.name;
};
