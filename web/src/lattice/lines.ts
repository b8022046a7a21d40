import type { Column, Row } from "../api/client";
import { bornAt, isGroup, stepOf } from "./address";
import { isTrouble } from "./columns";

/** A line of the drawing: a row, several that are alike, or a row with what it went into. */
export interface Line {
  at: number; // place of its first row among those that are looked at
  count: number; // more than one: they are alike, and folded
  trouble: boolean;
  rows?: Row[]; // where all rows are at hand: the row, and the groups that go on along it
}

/** The lines of a lattice of which only the shape is known. */
export function linesOf(shape: readonly number[], unfolded: ReadonlySet<number>): Line[] {
  const out: Line[] = [];
  let at = 0;
  for (const n of shape) {
    const count = Math.abs(n);
    if (count > 1 && unfolded.has(at))
      for (let i = 0; i < count; i++) out.push({ at: at + i, count: 1, trouble: n < 0 });
    else out.push({ at, count, trouble: n < 0 });
    at += count;
  }
  return out;
}

/** How many rows a join has at most that is drawn with curves. */
export const CURVED = 12;

export interface Sheet {
  band: string; // as the service names it
  lines: Line[];
}

/** The band of a row: "-" for items of the trigger, else the step that made it of many. */
export function bandOf(row: Row, columns: Column[]): string {
  if (row.address.startsWith("g0.")) return "on_failure";
  if (!isGroup(row.address)) return "-";
  const c = columns.find((x) => x.number === stepOf(row.address.split("-")[0] ?? ""));
  return c?.on_failure ? "on_failure" : (c?.name ?? "-");
}

/**
 * Lays out a small lattice: groups of up to twelve stand on the middle one of the
 * lines that went into them; those of larger joins, and all others of their step,
 * in a sheet of their own.
 */
export function sheetsOf(rows: Row[], columns: Column[]): Sheet[] {
  const bands = new Map<string, Line[]>();
  rows.forEach((row, at) => {
    const band = bandOf(row, columns);
    const list = bands.get(band) ?? [];
    list.push({ at, count: 1, trouble: isTrouble(row), rows: [{ ...row, row: list.length + 1 }] });
    bands.set(band, list);
  });
  const order = [...bands.keys()].sort((a, b) => place(a, columns) - place(b, columns));
  for (const band of order.slice(1)) {
    const groups = bands.get(band) ?? [];
    const into =
      band === "on_failure" ? undefined : order.find((b) => b !== band && inline(groups, bands.get(b) ?? []));
    if (into === undefined) continue;
    bands.set(into, attach(groups, bands.get(into) ?? [], columns));
    bands.delete(band);
  }
  return order.flatMap((band) => {
    const lines = bands.get(band);
    return lines ? [{ band, lines }] : [];
  });
}

const place = (band: string, columns: Column[]) =>
  band === "-" ? -1 : band === "on_failure" ? columns.length : columns.findIndex((c) => c.name === band);

/** The address of the group that a line goes into at its end. */
const goesInto = (l: Line) => l.rows?.at(-1)?.into;

/** The head of an address: the group with which it begins. */
const head = (address: string) => address.split("-")[0] ?? "";

/** Whether all groups can stand on lines of others: each has members among them, one below the other, and few. */
function inline(groups: Line[], lines: Line[]): boolean {
  const members = new Map<string, number[]>();
  lines.forEach((l, i) => {
    const g = goesInto(l);
    if (g !== undefined) members.set(g, [...(members.get(g) ?? []), i]);
  });
  const perGroup = new Map<string, number>();
  for (const g of groups)
    perGroup.set(head(g.rows?.[0]?.address ?? ""), (perGroup.get(head(g.rows?.[0]?.address ?? "")) ?? 0) + 1);
  return [...perGroup].every(([g, n]) => {
    const list = members.get(g);
    return (
      n === 1 &&
      list !== undefined &&
      list.length <= CURVED &&
      list.every((x, i) => i === 0 || x === (list[i - 1] ?? 0) + 1)
    );
  });
}

/** Puts groups onto the middle ones of the lines that went into them. */
function attach(groups: Line[], lines: Line[], columns: Column[]): Line[] {
  const out = lines.map((l) => ({ ...l }));
  for (const g of groups) {
    const row = g.rows?.[0];
    if (!row) continue;
    const list = out.filter(
      (l) =>
        goesInto(l) === head(row.address) &&
        l.rows !== undefined &&
        bornAt(l.rows[0]?.address ?? "", columns) < bornAt(row.address, columns),
    );
    const middle = list[Math.floor((list.length - 1) / 2)];
    if (middle) {
      middle.rows = [...(middle.rows ?? []), row];
      middle.trouble ||= g.trouble;
    }
  }
  return out;
}
