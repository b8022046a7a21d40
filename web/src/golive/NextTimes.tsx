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
      <Leaves times={cadence.times} />
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

/** The next ten days, a leaf where it starts. */
function Leaves({ times }: { times: Schemas["DueTime"][] }) {
  const days = Array.from({ length: 10 }, (_, i) => {
    const d = new Date();
    d.setDate(d.getDate() + i);
    return d;
  });
  const on = new Set(times.map((t) => new Date(t.at).toDateString()));
  return (
    <svg viewBox="0 0 330 62" className="w-full" aria-hidden>
      <line x1={0} x2={330} y1={40} y2={40} className="stroke-leaf" />
      {days.map((d, i) => {
        const x = 16 + i * 33;
        const starts = on.has(d.toDateString());
        return (
          <g key={i} className={starts ? "fill-ink" : "fill-third"}>
            <text x={x} y={12} textAnchor="middle" className="text-[11.5px]">
              {d.toLocaleDateString("en-GB", { weekday: "short" })}
            </text>
            {starts && <path d={`M${String(x)} 39 q-8 -6 1 -19 q9 9 -1 19`} className="fill-leaf" />}
            <text x={x} y={56} textAnchor="middle" className="text-[11.5px]">
              {d.getDate()}
            </text>
          </g>
        );
      })}
    </svg>
  );
}
