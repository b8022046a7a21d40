import type { Schemas } from "../api/client";
import { dayShort, plural, when } from "../ui/words";
import { isOften, placeOf, startsOf } from "./agenda";

const width = 1200;
const row = 26;
const labels = 230;

/** The span as stems: a line for each workflow, a leaf for each start. */
export function Stem({ schedule }: { schedule: Schemas["Schedule"] }) {
  const rows = [
    ...new Map(schedule.entries.filter((e) => e.times.length > 0).map((e) => [e.workflow, e.title])),
  ];
  const shown = rows.slice(0, 12);
  if (shown.length === 0) return null;
  const starts = startsOf(schedule);
  const often = new Map(
    schedule.entries.filter((e) => isOften(e, schedule)).map((e) => [e.workflow, e.times[0]?.at]),
  );
  const x = (at: string) => labels + 12 + placeOf(schedule, at) * (width - labels - 24);
  const height = shown.length * row + 34;
  return (
    <figure className="card overflow-x-auto px-3 py-2">
      <svg
        viewBox={`0 0 ${String(width)} ${String(height)}`}
        className="w-full min-w-[760px]"
        role="img"
        aria-label={`What starts until ${when(schedule.until)}, of ${plural(rows.length, "workflow")}`}
      >
        {midnights(schedule).map((d) => (
          <g key={d.toISOString()}>
            <line
              x1={x(d.toISOString())}
              x2={x(d.toISOString())}
              y1={4}
              y2={height - 22}
              className="stroke-rule"
            />
            <text x={x(d.toISOString()) + 5} y={height - 8} className="fill-second text-[12px]">
              {dayShort(d.toISOString())}
            </text>
          </g>
        ))}
        {shown.map(([workflow, title], i) => {
          const y = 18 + i * row;
          return (
            <g key={workflow}>
              <text x={0} y={y + 4} className="fill-ink text-[13px]">
                {title.length > 32 ? `${title.slice(0, 31)}…` : title}
              </text>
              <line x1={labels} x2={width} y1={y} y2={y} className="stroke-leaf/50" />
              {often.has(workflow) && (
                <line
                  x1={x(often.get(workflow) ?? schedule.now)}
                  x2={width - 12}
                  y1={y - 5}
                  y2={y - 5}
                  strokeWidth={7}
                  strokeDasharray="2 4"
                  className="stroke-leaf"
                />
              )}
              {starts
                .filter((s) => s.workflow === workflow)
                .map((s) => (
                  <path
                    key={s.at}
                    d={`M${String(x(s.at))} ${String(y)} q-5 -5 0 -12 q6 6 0 12`}
                    className={s.note ? "fill-amber" : "fill-leaf"}
                  >
                    <title>{`${title}, ${when(s.at)}${s.note ? `; ${s.note}` : ""}`}</title>
                  </path>
                ))}
            </g>
          );
        })}
      </svg>
      {rows.length > shown.length && (
        <figcaption className="hint">{plural(rows.length - shown.length, "more workflow")} below.</figcaption>
      )}
    </figure>
  );
}

/** The reader's midnights within the span, at most ten of them. */
function midnights(s: Schemas["Schedule"]): Date[] {
  const out: Date[] = [];
  const d = new Date(s.now);
  d.setHours(24, 0, 0, 0);
  while (d.getTime() < new Date(s.until).getTime()) {
    out.push(new Date(d));
    d.setDate(d.getDate() + 1);
  }
  const step = Math.ceil(out.length / 10);
  return out.filter((_, i) => i % step === 0);
}
