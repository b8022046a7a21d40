import type { Json } from "../api/client";
import { writeJson } from "../api/exact";
import type { ListColumn } from "../api/lists";

/** What a column is called for people. */
export const titleOf = (c: ListColumn) => c.title ?? c.name;

/** A cell as it is read and typed. */
export function cellText(v: Json | undefined): string {
  if (v === undefined || v === null) return "";
  if (typeof v === "boolean") return v ? "yes" : "no";
  return typeof v === "string" ? v : writeJson(v);
}
