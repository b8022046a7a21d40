import type { Fields, Json } from "../../api/client";
import { writeJson } from "../../api/exact";
import { brief } from "../../ui/words";

/** Items of one kind that an expression can read: this item's, an earlier line's, the trigger's. */
export interface Source {
  prefix: string; // as an expression says it: item, steps.read, trigger, vars
  title: string;
  rows: Fields[];
  chosen: Fields | undefined; // that of the chosen row
}

/** A field that was found in the items of a source. */
export interface Found {
  source: Source;
  names: string[]; // from the item in; "[]" stands for the elements of a list
  type: string;
  value: Json | undefined; // in the chosen row
  filled: number; // of how many of the items it holds something
  of: number;
  distinct: number; // different values; one more than most where there are more
  examples: string[]; // some of them
}

/** So many different values are told apart, elements of a list looked at, and levels gone down. */
const most = { distinct: 50, elements: 40, levels: 6, fields: 3000 };

const plainName = /^[A-Za-z_][A-Za-z0-9_]*$/;
/** Names that have a meaning of their own in an expression. */
const reserved = new Set(["and", "or", "not", "in", "true", "false", "nil", "let", "if", "else", "matches"]);

const step = (name: string) =>
  plainName.test(name) && !reserved.has(name) ? `.${name}` : `[${JSON.stringify(name)}]`;

/** A path as an expression reads it. */
export const pathOf = (prefix: string, names: string[]) => prefix + names.map(step).join("");

interface Tally {
  names: string[];
  types: Set<string>;
  filled: number;
  values: Map<string, string>;
}

function typeOf(v: Json): string {
  if (v === null) return "nothing";
  if (Array.isArray(v)) return "list";
  if (typeof v === "object") return "object";
  if (typeof v === "boolean") return "yes or no";
  if (typeof v === "bigint") return "whole number";
  if (typeof v === "number") return Number.isInteger(v) ? "whole number" : "number";
  if (/^\d{4}-\d{2}-\d{2}$/.test(v)) return "date";
  if (/^\d{4}-\d{2}-\d{2}T\d{2}:\d{2}/.test(v)) return "date and time";
  return "text";
}

const empty = (v: Json | undefined) => v === undefined || v === null || v === "";

/** All fields of the items of a source, in the order in which they are met. */
export function fieldsOf(source: Source): Found[] {
  const tallies = new Map<string, Tally>();
  const walk = (v: Json, names: string[], counted: Set<string>) => {
    if (names.length > 0) tally(v, names, counted);
    if (v === null || typeof v !== "object" || names.length >= most.levels) return;
    if (Array.isArray(v)) for (const e of v.slice(0, most.elements)) walk(e, [...names, "[]"], counted);
    else for (const [k, e] of Object.entries(v)) walk(e, [...names, k], counted);
  };
  const tally = (v: Json, names: string[], counted: Set<string>) => {
    const key = names.join("\u0000");
    let t = tallies.get(key);
    if (!t) {
      if (tallies.size >= most.fields) return;
      tallies.set(key, (t = { names, types: new Set(), filled: 0, values: new Map() }));
    }
    if (empty(v)) return;
    if (!counted.has(key)) t.filled++; // once for each item, also in its lists
    counted.add(key);
    t.types.add(typeOf(v));
    if (t.values.size <= most.distinct) {
      const text = brief(v);
      t.values.set(typeof v === "object" ? writeJson(v).slice(0, 400) : text, text);
    }
  };
  for (const r of source.rows) walk(r, [], new Set());
  return [...tallies.values()]
    .filter((t) => t.names.at(-1) !== "[]" || t.types.size !== 1 || !t.types.has("object"))
    .map((t) => ({
      source,
      names: t.names,
      type: typeWords(t.types),
      value: valueAt(source.chosen, t.names),
      filled: t.filled,
      of: source.rows.length,
      distinct: t.values.size,
      examples: [...t.values.values()].slice(0, 3),
    }));
}

function typeWords(types: Set<string>): string {
  if (types.size === 0) return "never filled in";
  if (types.size === 2 && types.has("number") && types.has("whole number")) return "number";
  return [...types].join(" or ");
}

/** The value at a path; of a list's elements that of the first. */
export function valueAt(fields: Fields | undefined, names: string[]): Json | undefined {
  let at: Json | undefined = fields;
  for (const n of names) {
    if (at === undefined || at === null || typeof at !== "object") return undefined;
    at = n === "[]" ? (Array.isArray(at) ? at[0] : undefined) : Array.isArray(at) ? undefined : at[n];
  }
  return at;
}

/** What a field is called in the list: its path without the source. */
export const calledOf = (f: Found) =>
  f.names.map((n, i) => (n === "[]" ? "[]" : i === 0 ? n : `.${n}`)).join("");

export const distinctWords = (f: Found) =>
  f.filled === 0
    ? ""
    : f.distinct > most.distinct
      ? `over ${String(most.distinct)} values`
      : f.distinct === 1
        ? "always the same"
        : `${String(f.distinct)} values`;

const folded = (s: string) =>
  s
    .normalize("NFKD")
    .replace(/[\u0300-\u036f]/g, "")
    .toLowerCase();

/** Those that have every word in their name, value, type or source; what is named so comes first. */
export function searched(all: Found[], query: string): Found[] {
  const words = folded(query).split(/\s+/).filter(Boolean);
  if (words.length === 0) return all;
  const ranked = all.flatMap((f) => {
    const name = folded(calledOf(f)).replaceAll("_", " ");
    const value = folded([brief(f.value), ...f.examples].join(" "));
    const rest = folded(`${f.type} ${f.source.prefix}`);
    let rank = 0;
    for (const w of words) {
      const last = name.split(/[.[\]]+/).at(-1) ?? "";
      if (last === w) rank += 0;
      else if (last.startsWith(w)) rank += 1;
      else if (name.includes(w) || name.replaceAll(" ", "_").includes(w)) rank += 2;
      else if (value.includes(w)) rank += 4;
      else if (rest.includes(w)) rank += 6;
      else return [];
    }
    return [{ f, rank }];
  });
  return ranked.sort((a, b) => a.rank - b.rank).map((x) => x.f);
}

/** A way to use a field: an expression, for which a line may have to be added. */
export interface Way {
  words: string;
  expression: string;
  list?: string; // a line that makes one item of each of its elements comes before
}

/** The ways to use a field. There are several only where it stands within a list. */
export function waysTo(f: Found): Way[] {
  const cut = f.names.indexOf("[]");
  const { prefix } = f.source;
  if (cut < 0) return [{ words: "as it is", expression: pathOf(prefix, f.names) }];
  const list = pathOf(prefix, f.names.slice(0, cut));
  const inner = f.names.slice(cut + 1);
  if (inner.includes("[]")) {
    // A list within a list: of the first, what its own list gives.
    return [
      { words: "of the first", expression: pathOf(`first(${list})`, inner.slice(0, inner.indexOf("[]"))) },
    ];
  }
  const each = inner.length === 0 ? list : `map(${list}, ${pathOf("#", inner)})`;
  const ways: Way[] = [
    { words: "Of the first", expression: pathOf(`first(${list})`, inner) },
    { words: "Of all, joined", expression: `join(${each}, ", ")` },
  ];
  if (prefix === "item")
    ways.push({
      words: "One item each",
      expression: inner.length === 0 ? "item.value" : pathOf("item", inner),
      list,
    });
  return ways;
}
