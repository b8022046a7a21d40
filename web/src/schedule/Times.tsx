import type { Schemas } from "../api/client";
import { clockShort } from "../ui/words";

/** A time by the reader's own clock, where that shows another. */
export function ForReader({ at, wall }: { at: string; wall: string }) {
  const own = clockShort(at);
  if (wall.includes(`, ${own}`)) return null;
  return <span className="text-xs text-third">{own} for you</span>;
}

/** Next times as a list, with what the change of clocks does to them. */
export function Times({
  times,
  zone,
  clocks,
}: {
  times: Schemas["DueTime"][];
  zone: string;
  clocks?: string | undefined;
}) {
  if (times.length === 0) return <p className="text-amber">It is never due again.</p>;
  return (
    <div className="mt-1.5">
      <h3 className="label">Next times, {zone}</h3>
      <ol className="space-y-0.5 tabular-nums" aria-label="Next times">
        {times.map((t) => (
          <li key={t.at} className="flex flex-wrap items-baseline gap-x-3">
            <span>{t.wall}</span>
            <ForReader at={t.at} wall={t.wall} />
            {t.note && <span className="text-xs text-amber">{t.note}</span>}
            {t.who && <span className="w-full truncate text-xs text-second">for {t.who}</span>}
          </li>
        ))}
      </ol>
      {clocks && <p className="hint mt-1">{clocks}</p>}
    </div>
  );
}
