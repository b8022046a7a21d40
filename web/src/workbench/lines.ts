import type { Json, Line, Rehearsal } from "../api/client";
import type { Edit } from "../api/draft";

/** What the trigger's line is known by. */
export const TRIGGER = "-";
/** The steps of the workflow itself, and those for when a run fails, as an edit names them. */
export const TOP = "/";
export const ON_FAILURE = "/on_failure";

/** What a line is known by: cases by the steps within them. */
export const keyOf = (l: Line) => (l.kind === "case" ? (l.inside ?? l.name) : l.name);
export const isCase = (l: Line) => l.kind === "case";
/** A case that has a name and a condition of its own. */
export const isNamed = (l: Line) => l.type === "case" && l.name !== "else";

export interface Place {
  in: string;
  to: number;
}

/** The steps in which a step stands. */
const blockOf = (l: Line) => l.in ?? TOP;
const ownerOf = (block: string) => (block.startsWith("/") ? undefined : block.split("/")[0]);
export const stepsIn = (lines: Line[], block: string) =>
  lines.filter((l) => !isCase(l) && blockOf(l) === block);
export const casesOf = (lines: Line[], branch: string) => lines.filter((l) => isNamed(l) && l.in === branch);
export const find = (lines: Line[], key: string | undefined) => lines.find((l) => keyOf(l) === key);

/** The blocks of steps within a step, in reading order. */
const blocksOf = (lines: Line[], owner: string) =>
  lines.flatMap((l) =>
    l.inside !== undefined && (l.inside === owner || l.inside.startsWith(`${owner}/`)) ? [l.inside] : [],
  );

/** Where a line that is added below another stands: first in a case, else after it. */
export function below(lines: Line[], key: string): Place {
  const l = find(lines, key);
  if (!l) return { in: TOP, to: 0 };
  if (isCase(l)) return { in: l.inside ?? TOP, to: 0 };
  return { in: blockOf(l), to: stepsIn(lines, blockOf(l)).indexOf(l) + 1 };
}

/** How many lines after the i-th stand within it. */
export function extent(lines: Line[], i: number): number {
  const depth = lines[i]?.depth ?? 0;
  const end = lines.findIndex((x, k) => k > i && (x.depth ?? 0) <= depth);
  return (end < 0 ? lines.length : end) - 1 - i;
}

export type Direction = "up" | "down" | "in" | "out";

/** The edit that moves a line one place on; none where it cannot go there. */
export function shift(lines: Line[], key: string, to: Direction): Edit | undefined {
  const l = find(lines, key);
  if (!l) return undefined;
  if (isCase(l)) {
    if (!isNamed(l) || to === "in" || to === "out") return undefined;
    const cases = casesOf(lines, l.in ?? "");
    const at = cases.indexOf(l) + (to === "up" ? -1 : 1);
    return at >= 0 && at < cases.length ? { op: "move", step: key, to: at } : undefined;
  }
  const place = moved(lines, l, to);
  return place && { op: "move", step: l.name, ...place };
}

function moved(lines: Line[], l: Line, to: Direction): Place | undefined {
  const block = blockOf(l);
  const beside = stepsIn(lines, block);
  const at = beside.indexOf(l);
  const owner = find(lines, ownerOf(block));
  const outside = owner && { in: blockOf(owner), to: stepsIn(lines, blockOf(owner)).indexOf(owner) };
  const blocks = owner ? blocksOf(lines, owner.name) : [];
  if (to === "in") {
    const before = beside[at - 1];
    const into =
      before &&
      blocksOf(lines, before.name)
        .filter((b) => !b.endsWith("/fallback"))
        .at(-1);
    return into === undefined ? undefined : { in: into, to: stepsIn(lines, into).length };
  }
  if (to === "out") return outside && { ...outside, to: outside.to + 1 };
  if (to === "up") {
    if (at > 0) return { in: block, to: at - 1 };
    const before = block === ON_FAILURE ? TOP : blocks[blocks.indexOf(block) - 1];
    return before !== undefined ? { in: before, to: stepsIn(lines, before).length } : outside;
  }
  if (at < beside.length - 1) return { in: block, to: at + 1 };
  if (block === TOP)
    return lines.some((x) => x.inside === ON_FAILURE) ? { in: ON_FAILURE, to: 0 } : undefined;
  const next = blocks[blocks.indexOf(block) + 1];
  return next !== undefined ? { in: next, to: 0 } : outside && { ...outside, to: outside.to + 1 };
}

/** The edit that puts a line at a place, which is counted with the line where it stands now; none if it is there already or cannot go there. */
export function dropped(lines: Line[], key: string, place: Place): Edit | undefined {
  const l = find(lines, key);
  if (!l) return undefined;
  if (isCase(l)) {
    if (!isNamed(l) || place.in !== l.in) return undefined;
    const at = casesOf(lines, l.in).indexOf(l);
    const to = place.to > at ? place.to - 1 : place.to;
    return to === at ? undefined : { op: "move", step: key, to };
  }
  const i = lines.indexOf(l);
  const within = lines.slice(i, i + extent(lines, i) + 1);
  if (within.some((x) => x.inside === place.in)) return undefined;
  const at = place.in === blockOf(l) ? stepsIn(lines, place.in).indexOf(l) : -1;
  const to = at >= 0 && place.to > at ? place.to - 1 : place.to;
  return to === at ? undefined : { op: "move", step: l.name, in: place.in, to };
}

/** Where a line that is held over another would go: before it, after it, or first within it. */
export function over(lines: Line[], key: string, held: string, half: "upper" | "lower"): Place | undefined {
  const l = find(lines, key);
  const h = find(lines, held);
  if (!l || !h) return undefined;
  if (isCase(h)) {
    if (!isNamed(l) || l.in === undefined || l.in !== h.in) return undefined;
    return { in: l.in, to: casesOf(lines, l.in).indexOf(l) + (half === "lower" ? 1 : 0) };
  }
  if (isCase(l) || (l.inside !== undefined && half === "lower")) return { in: l.inside ?? TOP, to: 0 };
  return { in: blockOf(l), to: stepsIn(lines, blockOf(l)).indexOf(l) + (half === "lower" ? 1 : 0) };
}

/** The edit that pastes text below a line; cases go beside a case or into a branch. */
export function pasted(lines: Line[], key: string | undefined, text: string): Edit {
  const place = key === undefined ? { in: TOP, to: stepsIn(lines, TOP).length } : below(lines, key);
  return { op: "paste", ...place, value: text, ...(find(lines, key) ? { step: key } : {}) };
}

/** A name that no other has. */
export function unused(base: string, taken: string[]): string {
  let name = base;
  for (let n = 2; taken.includes(name); n++) name = `${base}_${String(n)}`;
  return name;
}

/** A new case of a branch. */
export const freshCase = (lines: Line[], branch: string): Json => ({
  name: unused(
    "case",
    casesOf(lines, branch).map((c) => c.name),
  ),
  when: "",
  steps: [],
});

/** What a line says of items in the last rehearsal: in → out; of a case, how many took it. */
export function figures(l: Line, seen: Rehearsal | undefined): string {
  if (isCase(l)) {
    const owner = seen?.columns.find(
      (c) => c.name === l.in || (l.type === "fallback" && l.inside === `${c.name}/fallback`),
    );
    if (l.type === "fallback") return owner?.fell_back ? String(owner.fell_back) : "";
    const way = owner?.ways?.find((w) => w.name === l.name);
    return way ? way.count.toLocaleString("en") : "";
  }
  const c = seen?.columns.find((x) => x.name === l.name);
  if (!c || (c.in === 0 && c.out === 0)) return "";
  return c.in === c.out
    ? c.in.toLocaleString("en")
    : `${c.in.toLocaleString("en")} → ${c.out.toLocaleString("en")}`;
}

/** What a new line is called at first: after what it does. */
export const firstName = (type: string, taken: string[]) =>
  unused((type.split(".")[1] ?? type).replace(/[^a-z0-9_]/g, "_"), taken);
