import { useQuery } from "@tanstack/react-query";
import { useEffect, useMemo } from "react";
import { type Column, type Row, type Run, type Schemas } from "../api/client";
import type { Spot } from "../lattice/Lattice";
import { bandOf, sheetsOf } from "../lattice/lines";
import { reached, trouble } from "../lattice/shape";
import { useShape, WHOLE } from "../lattice/source";
import { START, startRow } from "../lattice/start";
import { rowsOf } from "../api/runs";

/**
 * Opens the cell that matters by itself: the one that the address names, or else
 * the first where something is to be mended, or the end of a single row.
 */
export function useFirst(
  run: Run,
  columns: Column[],
  start: boolean,
  shape: Schemas["LatticeShape"] | undefined,
  free: boolean,
  item: string | undefined,
  step: string | undefined,
  choose: (spot: Spot, row: Row) => void,
) {
  const small = (shape?.total ?? 0) <= WHOLE;
  const band =
    item === undefined
      ? (shape?.bands.find((b) => b.trouble > 0)?.band ?? "-")
      : bandOf({ address: item } as Row, columns);
  const over = !["queued", "running"].includes(run.run.state);
  const wanted = free && shape !== undefined && shape.total > 0 && (item !== undefined || over);
  const look = useMemo(() => ({ run: run.run.id, band, within: [], fate: undefined }), [run.run.id, band]);
  const own = useShape(look).data;
  const first = own ? firstTrouble(own.lines) : -1;
  const at = first >= 0 ? first : 0;
  const found = useQuery({
    queryKey: ["lattice", run.run.id, "first", item ?? "", small, band, at],
    enabled: wanted && own !== undefined,
    queryFn: () =>
      rowsOf(
        run.run.id,
        small
          ? { count: 500 }
          : item === undefined
            ? { band, from: at, count: 1 }
            : { band, around: item, count: 1 },
      ),
  });
  const rows = found.data?.rows;
  useEffect(() => {
    if (!wanted || !rows || rows.length === 0) return;
    const list = rows.map((r) => (start ? startRow(r) : r));
    const row =
      (item === undefined
        ? (list.find((r) => r.cells.some((c) => trouble.includes(c.fate))) ??
          (list.length === 1 ? list[0] : undefined))
        : (list.find((r) => r.address === item) ?? list.find((r) => r.address.startsWith(`${item}-`)))) ??
      (item === undefined ? undefined : list[0]);
    if (!row) return;
    const named = columns.findIndex((c) => c.name === (step ?? START));
    const last = row.cells.findLastIndex((c) => reached(c.fate));
    const column = item !== undefined && step !== undefined && named >= 0 ? named : last;
    const place = small ? placeIn(list, row, columns) : { band, at: row.at ?? at };
    choose({ ...place, column: Math.max(0, column) }, row);
  }, [wanted, rows, start, item, step, columns, small, band, at, choose]);
}

const firstTrouble = (lines: number[]): number => {
  let at = 0;
  for (const n of lines) {
    if (n < 0) return at;
    at += n;
  }
  return -1;
};

/** The band and line on which a row of a small lattice is drawn. */
function placeIn(list: Row[], row: Row, columns: Column[]): { band: string; at: number } {
  for (const s of sheetsOf(list, columns)) {
    const line = s.lines.find((l) => l.rows?.includes(row));
    if (line) return { band: s.band, at: line.at };
  }
  return { band: "-", at: 0 };
}
