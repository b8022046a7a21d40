import { parse, stringify } from "lossless-json";
import type { Json } from "./client";
import { isLeaving } from "./leaving";

const whole = /^-?\d+$/;

/** A number as it was written: a whole one that floating point would change is a bigint. */
export function exactNumber(text: string): number | bigint {
  const n = Number(text);
  return whole.test(text) && !Number.isSafeInteger(n) ? BigInt(text) : n;
}

/** Digits enough for a whole number that floating point could change. */
const long = /\d{16}/;

/** Reads JSON without changing a digit of a whole number. Where none can be too long, the browser's own reader is ten times as fast. */
export const readJson = (text: string) =>
  (long.test(text) ? parse(text, null, exactNumber) : JSON.parse(text)) as Json;

/** Writes JSON with every digit. */
export const writeJson = (v: unknown, indent?: number): string => stringify(v, null, indent) ?? "";

/** fetch, whose answers are read without changing a digit. */
export async function fetchExactly(request: Request): Promise<Response> {
  const got = await (isLeaving() ? fetch(request, { keepalive: true }) : fetch(request));
  if (got.status === 204 || !(got.headers.get("content-type") ?? "").includes("json")) return got;
  const text = await got.text();
  const headers = new Headers(got.headers);
  headers.set("content-length", String(text.length)); // of an answer with a length the client asks json()
  const exact = new Response(text, { status: got.status, statusText: got.statusText, headers });
  Object.defineProperty(exact, "json", { value: () => Promise.resolve(readJson(text)) });
  return exact;
}
