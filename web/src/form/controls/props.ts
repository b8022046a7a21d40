import type { Fields, Json, Schemas } from "../../api/client";

/** What an expression sees of the chosen row. */
export interface Shared {
  item: Fields | undefined;
  trigger: Fields | undefined;
  row: string | undefined;
  steps: string[];
}

export const noRow: Shared = { item: undefined, trigger: undefined, row: undefined, steps: [] };

/** What is around a field. */
export interface Around {
  connection: string | undefined;
  values: Fields; // those of the other fields
  shared?: Shared; // where expressions can stand
}

export interface ControlProps {
  id: string;
  label: string;
  schema: Fields;
  value: Json | undefined;
  onSet: (v: Json | undefined) => void;
  around: Around;
  required?: boolean; // a form is not sent without it
  problems: Schemas["Finding"][];
}
