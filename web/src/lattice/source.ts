import { keepPreviousData, useQueries, useQuery, useQueryClient } from "@tanstack/react-query";
import { useCallback, useMemo, useRef, useState } from "react";
import type { Column, Fate, Row, Schemas } from "../api/client";
import { rowsOf, shapeOf } from "../api/runs";
import { type Open, visible } from "./columns";
import { START, startRow } from "./start";
import type { Line } from "./lines";

/** How many rows a lattice has at most that is loaded whole. */
export const WHOLE = 200;

export interface Look {
  run: string;
  band: string;
  within: string[];
  fate: Fate | undefined;
}

const query = (l: Look) => ({
  ...(l.band ? { band: l.band } : {}),
  ...(l.within.length > 0 ? { within: l.within } : {}),
  ...(l.fate ? { fate: l.fate } : {}),
});

/** What is looked into, as the service wants it said: from the outermost nest in. */
export const withinOf = (open: Open, columns: Column[]): string[] =>
  columns.flatMap((c) => {
    const into = open[c.name];
    return into !== undefined &&
      into !== "" &&
      into !== "fallback" &&
      c.nest !== "fallback" &&
      visible(c, columns, open)
      ? [`${c.name}/${into}`]
      : [];
  });

export const shapeQuery = (l: Look) => ({
  queryKey: ["lattice", l.run, "shape", l.band, l.within, l.fate ?? ""],
  queryFn: () => shapeOf(l.run, query(l)),
  placeholderData: keepPreviousData,
});

export const useShape = (l: Look) => useQuery(shapeQuery(l));

/** The shapes of several bands at once. */
export const useShapes = (list: Look[]) => useQueries({ queries: list.map(shapeQuery) });

/** All rows of a small lattice. */
export const useAllRows = (l: Look) =>
  useQuery({
    queryKey: ["lattice", l.run, "all", l.within],
    placeholderData: keepPreviousData,
    queryFn: () => rowsOf(l.run, { ...query(l), count: 500 }),
  });

const BLOCK = 60; // rows that are asked for together

/** Rows of a large band, loaded as they come into sight. */
export function useRows(look: Look, stamp: number, start: boolean) {
  const client = useQueryClient();
  const key = useMemo(() => JSON.stringify([look, stamp]), [look, stamp]);
  const kept = useRef<{ key: string; rows: Map<number, Row>; asked: Set<number> }>({
    key: "",
    rows: new Map(),
    asked: new Set(),
  });
  const [, redraw] = useState(0);
  if (kept.current.key !== key) kept.current = { key, rows: new Map(), asked: new Set() };
  const need = useCallback(
    (lines: Line[]) => {
      const store = kept.current;
      const missing = lines.filter((l) => !store.rows.has(l.at) && !store.asked.has(l.at)).map((l) => l.at);
      if (missing.length === 0) return;
      for (const part of ranges(missing)) {
        for (const [from, count] of part) for (let i = 0; i < count; i++) store.asked.add(from + i);
        const at = part.map(([from, count]) => `${String(from)}-${String(count)}`).join(",");
        client
          .fetchQuery({
            queryKey: ["lattice", look.run, "rows", key, at],
            staleTime: Infinity,
            gcTime: 0,
            queryFn: () => rowsOf(look.run, { ...query(look), at }),
          })
          .then(
            (got: Schemas["Lattice"]) => {
              for (const r of got.rows) if (r.at !== undefined) store.rows.set(r.at, start ? startRow(r) : r);
              redraw((n) => n + 1);
            },
            () => {
              for (const [from, count] of part) for (let i = 0; i < count; i++) store.asked.delete(from + i);
            },
          );
      }
    },
    [client, key, look, start],
  );
  const store = kept.current;
  const size = store.rows.size;
  const known = useCallback(
    (l: Line) => {
      const r = store.rows.get(l.at);
      return size >= 0 && r ? [r] : undefined;
    },
    [store, size],
  );
  return { need, rowsOf: known };
}

/** Sorts places into windows, and these into questions of at most sixty rows and fifty windows. */
export function ranges(places: number[]): [number, number][][] {
  const windows: [number, number][] = [];
  for (const p of [...places].sort((a, b) => a - b)) {
    const last = windows.at(-1);
    if (last && p <= last[0] + last[1] + 2 && p - last[0] < BLOCK) last[1] = p - last[0] + 1;
    else windows.push([p, 1]);
  }
  const out: [number, number][][] = [];
  for (const w of windows) {
    const part = out.at(-1);
    if (part && part.length < 50 && part.reduce((n, x) => n + x[1], w[1]) <= 400) part.push(w);
    else out.push([w]);
  }
  return out;
}

/** The step of a spot, as the service names it. */
export const stepAt = (columns: Column[], column: number) => columns[column]?.name ?? START;
