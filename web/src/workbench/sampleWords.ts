import type { Fields, Json } from "../api/client";
import { readJson } from "../api/exact";
import { brief } from "../ui/words";

const names = ["title", "name", "subject", "email", "phone", "key"];
const telling = /(^|_)(id|number|no|code|reference|ref)$/;

const plain = (v: Json | undefined) =>
  (typeof v === "string" && v.trim() !== "") || typeof v === "number" || typeof v === "bigint";

/** What a sample is called: by a usual field, else one that tells items apart, else its first. */
export function sampleName(fields: Fields): string {
  for (const n of names) if (typeof fields[n] === "string" && fields[n] !== "") return fields[n];
  const keys = Object.keys(fields).filter((k) => plain(fields[k]));
  const key = keys.find((k) => telling.test(k)) ?? keys[0];
  return key ? `${key.replaceAll("_", " ")} ${brief(fields[key])}` : "without a name";
}

/** The other fields of a sample, in a line. */
export function sampleRest(fields: Fields): string {
  const shown = sampleName(fields);
  return Object.entries(fields)
    .filter(([k, v]) => brief(v) !== shown && `${k.replaceAll("_", " ")} ${brief(v)}` !== shown)
    .slice(0, 6)
    .map(([k, v]) => `${k} ${brief(v)}`)
    .join(" · ");
}

/** The samples that a text holds: one object, a list of them, or one in each line. */
export function readSamples(text: string): { items: Fields[] } | { wrong: string } {
  const read = (s: string): Json => readJson(s);
  let found: Json[];
  try {
    const v = read(text);
    found = Array.isArray(v) ? v : [v];
  } catch (first) {
    try {
      found = text
        .split("\n")
        .filter((l) => l.trim() !== "")
        .map(read);
      if (found.length < 2) throw first;
    } catch {
      return {
        wrong: `This is not JSON yet: ${first instanceof Error ? first.message : "it cannot be read"}`,
      };
    }
  }
  const items = found.filter((v): v is Fields => v !== null && typeof v === "object" && !Array.isArray(v));
  if (items.length < found.length || items.length === 0)
    return { wrong: 'A sample is an object, as {"cone": 9}, or a list of such.' };
  return { items };
}
