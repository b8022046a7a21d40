import createClient from "openapi-fetch";
import { fetchExactly, writeJson } from "./exact";
import type { components, paths } from "./schema";

export type Schemas = components["schemas"];
export type Workflow = Schemas["Workflow"];
export type Line = Schemas["Line"];
export type Kind = Schemas["Kind"];
export type Row = Schemas["Row"];
export type Cell = Schemas["Cell"];
export type Column = Schemas["Column"];
export type Fate = Schemas["Fate"];
export type Run = Schemas["Run"];
export type RunSummary = Schemas["RunSummary"];
export type Connection = Schemas["Connection"];
export type Connector = Schemas["Connector"];
export type Finding = Schemas["Finding"];
export type Rehearsal = Schemas["Rehearsal"];
export type Json = string | number | bigint | boolean | null | Json[] | { [key: string]: Json };
export type Fields = Record<string, Json>;

export const http = createClient<paths>({
  baseUrl: "/api/v1",
  fetch: fetchExactly,
  bodySerializer: (body) => writeJson(body),
});

/** What the service said when it said no. */
export class Refusal extends Error {
  constructor(
    readonly status: number,
    readonly kind: string,
    message: string,
    readonly fields: { field: string; message: string }[] = [],
    readonly problems: Finding[] = [],
  ) {
    super(message);
  }
}

interface Answer<T> {
  data?: T;
  error?: Schemas["Problem"];
  response: Response;
}

/** Gives an answer's data, or throws what the service said. */
export async function ask<T>(call: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>;
  try {
    answer = await call;
  } catch {
    throw new Refusal(0, "away", "The service cannot be reached. Is it still running?");
  }
  if (answer.response.ok) return answer.data as T;
  const p = answer.error;
  throw new Refusal(
    answer.response.status,
    p?.type ?? "unknown",
    p?.title ?? `The service answered ${String(answer.response.status)}.`,
    p?.fields ?? [],
    p?.problems ?? [],
  );
}

/** The contract's free JSON comes typed as unknown; this names it. */
export const asFields = (v: unknown): Fields =>
  v && typeof v === "object" && !Array.isArray(v) ? (v as Fields) : {};
