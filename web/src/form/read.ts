import type { Fields, Json } from "../api/client";
import { readJson } from "../api/exact";

/** What was typed: a value, nothing, or what is wrong with it. */
export type Typed = { value: Json | undefined } | { wrong: string };

const blank = /^\s*$/;

/** A number as people type it. Digits that a number of the machine has no room for are kept. */
export function readNumber(text: string, whole: boolean): Typed {
  const s = text.trim().replace(/^\+/, "").replaceAll("\u00a0", "").replaceAll("\u2009", "");
  if (blank.test(s)) return { value: undefined };
  if (/^-?\d+$/.test(s)) return { value: readJson(stripZeros(s)) };
  if (/^-?\d*\.\d+$/.test(s) || /^-?\d+\.$/.test(s)) {
    if (!whole) return { value: readJson(decimal(s)) };
    return /\.0*$/.test(s)
      ? { value: readJson(stripZeros(s.replace(/\..*$/, "") || "0")) }
      : { wrong: `${s} is not a whole number` };
  }
  if (/^-?\d+,\d+$/.test(s)) return { wrong: `Write it with a point: ${s.replace(",", ".")}` };
  return { wrong: `“${text.trim()}” is not a ${whole ? "whole number" : "number"}` };
}

const stripZeros = (s: string) => s.replace(/^(-?)0+(?=\d)/, "$1");

const decimal = (s: string) => {
  const [before = "", after = ""] = s.split(".");
  return `${stripZeros(before === "" || before === "-" ? `${before}0` : before)}.${after === "" ? "0" : after}`;
};

/** A length of time, as 90s, 5m, 2h, 3d or 1d12h. */
export function readDuration(text: string): Typed {
  const s = text.trim().replaceAll(" ", "");
  if (s === "") return { value: undefined };
  return /^(\d+(\.\d+)?(ms|d|h|m|s))+$/.test(s)
    ? { value: s }
    : { wrong: "Write it as 90s, 5m, 2h, 3d or 1d12h" };
}

/** Names or texts with commas or line breaks between them. */
export function readList(text: string): Json[] {
  return text
    .split(/[,\n]/)
    .map((s) => s.trim())
    .filter(Boolean);
}

export function readAsJson(text: string): Typed {
  if (blank.test(text)) return { value: undefined };
  try {
    return { value: readJson(text) };
  } catch (e) {
    return { wrong: `This is not JSON yet: ${e instanceof Error ? e.message : "it cannot be read"}` };
  }
}

/** What stands in an empty control: what counts where nothing is said, else an example. */
export function ghostOf(schema: Fields, write: (v: Json) => string): string {
  const preset = schema["default"];
  if (preset === undefined || preset === null) return exampleOf(schema, write);
  return `${typeof preset === "string" ? preset : write(preset)} unless said otherwise`;
}

/** The first example that a schema gives, as it is typed. */
export function exampleOf(schema: Fields, write: (v: Json) => string): string {
  const list = schema["examples"];
  if (!Array.isArray(list) || list.length === 0) return "";
  const first = list[0] as Json;
  return typeof first === "string" ? first : write(first);
}
