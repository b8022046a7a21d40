import { asFields, type Fields, type Json, type Schemas } from "../../api/client";
import { kindOf } from "../kind";
import { titleOf } from "../schema";
import { pathOf, type Found } from "./paths";

const parts = (s: string) =>
  s
    .normalize("NFKD")
    .replace(/[\u0300-\u036f]/g, "")
    .replace(/([a-z])([A-Z])/g, "$1 $2")
    .toLowerCase()
    .split(/[^a-z0-9]+/)
    .filter((w) => w !== "" && !filler.has(w));

/** Words that say nothing of a field. */
const filler = new Set(["the", "a", "an", "of", "to", "for", "its", "id"]);
/** Words that people use for the same thing. */
const same = [
  ["phone", "telephone", "mobile", "tel", "number"],
  ["mail", "email", "address"],
  ["name", "title", "caller", "label"],
  ["text", "message", "body", "content", "note"],
  ["from", "start", "starts", "began", "begin", "started"],
  ["to", "end", "ends", "ended", "until"],
  ["price", "amount", "total", "sum"],
  ["link", "url", "address"],
];

const alike = (a: string, b: string) =>
  a === b || a === `${b}s` || b === `${a}s` || same.some((g) => g.includes(a) && g.includes(b));

/** How well a field of an item fits what is wanted: 0 for not at all. */
export function fits(wanted: { name: string; title: string; schema: Fields }, f: Found): number {
  if (f.names.includes("[]") || f.filled === 0 || !goes(wanted.schema, f.type)) return 0;
  const last = f.names.at(-1) ?? "";
  if (last === wanted.name) return 100;
  const have = parts(last);
  const best = Math.max(...[parts(wanted.name), parts(wanted.title)].map((want) => share(want, have)));
  return best * 60 + (f.filled === f.of ? 4 : 0);
}

/** How much two names have in common, from 0 to 1. */
function share(want: string[], have: string[]): number {
  if (want.length === 0 || have.length === 0) return 0;
  const exact = want.filter((w) => have.some((h) => h === w || h === `${w}s` || w === `${h}s`)).length;
  const near = want.filter((w) => have.some((h) => alike(w, h))).length - exact;
  return (exact + near * 0.7) / Math.max(want.length, have.length);
}

const numbers = new Set(["number", "whole number"]);

/** Whether a value of a type can stand in a field. */
function goes(schema: Fields, type: string): boolean {
  switch (kindOf(schema)) {
    case "text":
    case "long_text":
    case "picker":
    case "secret":
      return type !== "object" && type !== "list";
    case "number":
      return numbers.has(type);
    case "whole":
      return type === "whole number";
    case "yes_no":
      return type === "yes or no";
    case "date":
    case "moment":
      return type.startsWith("date");
    case "file":
      return type === "object";
    case "list":
    case "several":
    case "rows":
      return type === "list";
    default:
      return false;
  }
}

/** A field and what it could be filled in with. */
export interface Suggestion {
  name: string; // of the field
  title: string;
  expression: string; // as the field stores it
  path: string; // as one reads it
}

/** Enough in common to be said. */
const enough = 38;

/** What the fields that hold nothing could be filled in with, each by another field of this item. */
export function suggestions(wanted: Schemas["Property"][], values: Fields, found: Found[]): Suggestion[] {
  const own = found.filter((f) => f.source.prefix === "item");
  const pairs = wanted
    .filter((p) => isEmpty(values[p.name]))
    .flatMap((p) => {
      const as = { name: p.name, title: titleOf(p), schema: asFields(p.schema) };
      return own.map((f) => ({ p, f, score: fits(as, f) }));
    })
    .filter((x) => x.score >= enough)
    .sort((a, b) => b.score - a.score);
  const taken = new Set<string>();
  const used = new Set<Found>();
  const out = new Map<string, Suggestion>();
  for (const { p, f } of pairs) {
    if (taken.has(p.name) || used.has(f)) continue;
    taken.add(p.name);
    used.add(f);
    const path = pathOf("item", f.names);
    out.set(p.name, { name: p.name, title: titleOf(p), expression: `(= ${path} )`, path });
  }
  return wanted.flatMap((p) => out.get(p.name) ?? []);
}

const isEmpty = (v: Json | undefined) => v === undefined || v === null || v === "";
