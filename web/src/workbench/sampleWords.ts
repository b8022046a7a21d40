import type { Fields, Json } from "../api/client";
import { readJson } from "../api/exact";
import { brief } from "../ui/words";

/** The other fields of a sample, in a line. */
export function sampleRest(fields: Fields, shown: string): string {
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
