import type { Line, Workflow } from "../../api/client";
import { casesOf, extent, isCase, keyOf, TRIGGER } from "../lines";

/** The line within which a line stands. */
export const parentOf = (lines: Line[], l: Line | undefined) => {
  const i = l ? lines.indexOf(l) : -1;
  for (let j = i - 1; j >= 0; j--) {
    const x = lines[j];
    if (x && (x.depth ?? 0) < (l?.depth ?? 0)) return keyOf(x);
  }
  return TRIGGER;
};

/** The lines of which the last one within them, or they themselves, is the line at i; the innermost first. */
export function closing(lines: Line[], i: number): Line[] {
  const out: Line[] = [];
  for (let j = i; j >= 0; j--) {
    const l = lines[j];
    if (l && j + extent(lines, j) === i) out.push(l);
  }
  return out;
}

/** Whether a line can be added to these steps now: the chosen line is one of them, or holds them. */
export const shows = (lines: Line[], inside: string, chosen: string | undefined) =>
  chosen !== undefined && lines.some((l) => keyOf(l) === chosen && (l.inside === inside || l.in === inside));

/** What is wrong with a line; of a case, with its condition. */
export function problemsOf(workflow: Workflow, l: Line) {
  if (!isCase(l)) return workflow.problems.filter((p) => p.step === l.name);
  const n = casesOf(workflow.lines, l.in ?? "").indexOf(l);
  return n < 0
    ? []
    : workflow.problems.filter((p) => p.step === l.in && p.path.includes(`.cases[${String(n)}].`));
}
