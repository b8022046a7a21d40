import type { Schemas } from "../api/client";
import { Times } from "../schedule/Times";
import { clockShort, dayShort } from "../ui/words";

/** When it starts next: the coming days as a stem, the times, and what else starts then. */
export function NextTimes({
  cadence,
  beside,
}: {
  cadence: Schemas["Cadence"];
  beside: Schemas["AheadBeside"][];
}) {
  return (
    <>
      <Leaves days={cadence.days} />
      <Times times={cadence.times} zone={cadence.zone} clocks={cadence.clocks} />
      {beside.length > 0 && (
        <section aria-label="Beside it">
          <h2 className="label mb-1">Beside it</h2>
          {beside.map((b) => (
            <p key={b.workflow}>
              {b.title}{" "}
              <span className="text-second">
                starts at {clockShort(b.at)} too, first {dayShort(b.at)}
              </span>
            </p>
          ))}
        </section>
      )}
    </>
  );
}

/** The coming days of the zone, a leaf where it starts. */
function Leaves({ days }: { days: Schemas["DueDay"][] }) {
  return (
    <svg viewBox="0 0 330 62" className="w-full" aria-hidden>
      <line x1={0} x2={330} y1={40} y2={40} className="stroke-leaf" />
      {days.map((d, i) => {
        const x = 16 + i * 33;
        const date = new Date(`${d.date}T12:00:00Z`); // a day of the zone, not a moment
        return (
          <g key={d.date} className={d.due ? "fill-ink" : "fill-third"}>
            <text x={x} y={12} textAnchor="middle" className="text-[11.5px]">
              {date.toLocaleDateString("en-GB", { weekday: "short", timeZone: "UTC" })}
            </text>
            {d.due && <path d={`M${String(x)} 39 q-8 -6 1 -19 q9 9 -1 19`} className="fill-leaf" />}
            <text x={x} y={56} textAnchor="middle" className="text-[11.5px]">
              {date.getUTCDate()}
            </text>
          </g>
        );
      })}
    </svg>
  );
}
