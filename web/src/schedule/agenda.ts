import type { Schemas } from "../api/client";

type Schedule = Schemas["Schedule"];

/** One start, of one workflow. */
export interface StartAt {
  at: string;
  workflow: string;
  title: string;
  reader: string | undefined;
  note: string | undefined;
  wall: string;
  zone: string;
}

/** Starts of one workflow at one day; where there are many they are one line. */
export interface DayLine {
  workflow: string;
  title: string;
  starts: StartAt[];
  cadence: string;
}

export interface Day {
  date: Date;
  lines: DayLine[];
}

/** More starts of a workflow on a day than these are told as one line. */
export const apart = 3;

/** Whether it starts so often that single times say little. */
export const isOften = (e: Schemas["ScheduleEntry"], s: Schedule) =>
  e.more > 0 ||
  e.times.length >
    Math.max(12, (12 * (new Date(s.until).getTime() - new Date(s.now).getTime())) / 86_400_000);

/** All starts that are listed, in their order, but of what starts often. */
export function startsOf(s: Schedule): StartAt[] {
  return s.entries
    .filter((e) => !isOften(e, s))
    .flatMap((e) =>
      e.times.map((t) => ({
        at: t.at,
        workflow: e.workflow,
        title: e.title,
        reader: e.reader,
        note: t.note,
        wall: t.wall,
        zone: e.zone,
      })),
    )
    .sort((a, b) => a.at.localeCompare(b.at));
}

/** The days of the reader on which something starts, each with its workflows in the order of their first start. */
export function daysOf(s: Schedule): Day[] {
  const cadences = new Map(s.entries.map((e) => [e.workflow, e.cadence]));
  const days: Day[] = [];
  for (const start of startsOf(s)) {
    const date = new Date(start.at);
    let day = days.at(-1);
    if (!day || day.date.toDateString() !== date.toDateString()) days.push((day = { date, lines: [] }));
    const line = day.lines.find((l) => l.workflow === start.workflow);
    if (line) line.starts.push(start);
    else
      day.lines.push({
        workflow: start.workflow,
        title: start.title,
        starts: [start],
        cadence: cadences.get(start.workflow) ?? "",
      });
  }
  return days;
}

/** Where a time lies within the span, from 0 to 1. */
export function placeOf(s: Schedule, at: string): number {
  const from = new Date(s.now).getTime();
  const to = new Date(s.until).getTime();
  return Math.min(1, Math.max(0, (new Date(at).getTime() - from) / (to - from)));
}
