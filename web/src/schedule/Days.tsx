import { Link } from "@tanstack/react-router";
import type { Schemas } from "../api/client";
import { clockShort, dayWords, plural } from "../ui/words";
import { apart, daysOf, isOften, type DayLine } from "./agenda";

/** The starts of the next days, day by day. */
export function Days({ schedule }: { schedule: Schemas["Schedule"] }) {
  const days = daysOf(schedule);
  const often = schedule.entries.filter((e) => isOften(e, schedule));
  const never = schedule.entries.filter((e) => e.times.length === 0);
  return (
    <div className="space-y-5">
      {days.length === 0 && often.length === 0 && (
        <p className="text-second">Nothing starts within this span.</p>
      )}
      {often.length > 0 && (
        <section aria-label="Often">
          <h2 className="label mb-1">Often</h2>
          <ul className="card divide-y divide-rule">
            {often.map((e) => (
              <li key={`${e.workflow} ${e.reader ?? ""}`} className="flex items-baseline gap-3 px-4 py-2">
                <span className="w-[130px] shrink-0 tabular-nums">
                  next {clockShort(e.times[0]?.at ?? "")}
                </span>
                <Name workflow={e.workflow} title={e.title} />
                <span className="ml-auto text-second">
                  {plural(e.times.length + e.more, "time")}, {e.cadence}
                </span>
              </li>
            ))}
          </ul>
        </section>
      )}
      {days.map((d) => (
        <section key={d.date.toDateString()} aria-label={dayWords(d.date.toISOString())}>
          <h2 className="label mb-1">{dayWords(d.date.toISOString())}</h2>
          <ul className="card divide-y divide-rule">
            {d.lines.map((l) => (
              <OnDay key={l.workflow} line={l} />
            ))}
          </ul>
        </section>
      ))}
      {never.length > 0 && (
        <section aria-label="Not within this span">
          <h2 className="label mb-1">Not within this span</h2>
          <ul className="card divide-y divide-rule">
            {never.map((e) => (
              <li key={`${e.workflow} ${e.reader ?? ""}`} className="flex items-baseline gap-3 px-4 py-2">
                <Name workflow={e.workflow} title={e.title} />
                <span className="ml-auto text-second">
                  {e.state === "paused"
                    ? "paused"
                    : e.next
                      ? `${e.cadence}, next ${dayWords(e.next)}`
                      : "it is never due again"}
                </span>
              </li>
            ))}
          </ul>
        </section>
      )}
    </div>
  );
}

function OnDay({ line }: { line: DayLine }) {
  const [first] = line.starts;
  if (!first) return null;
  const last = line.starts.at(-1) ?? first;
  const notes = [...new Set(line.starts.flatMap((s) => s.note ?? []))];
  const wall = first.wall.split(", ")[1] ?? "";
  const elsewhere = line.starts.length <= apart && wall !== clockShort(first.at);
  return (
    <li className="flex flex-wrap items-baseline gap-x-3 px-4 py-2">
      <span className="w-[130px] shrink-0 tabular-nums">
        {line.starts.length <= apart
          ? line.starts.map((s) => clockShort(s.at)).join(", ")
          : `${clockShort(first.at)} – ${clockShort(last.at)}`}
      </span>
      <Name workflow={line.workflow} title={line.title} />
      <span className="ml-auto text-second">
        {line.starts.length > apart ? `${plural(line.starts.length, "time")}, ` : ""}
        {line.cadence}
      </span>
      {(elsewhere || notes.length > 0) && (
        <span className="w-full pl-[142px] text-xs">
          {elsewhere && <span className="text-third">{`${wall} in ${first.zone}`} </span>}
          {notes.map((n) => (
            <span key={n} className="text-amber">
              {n}{" "}
            </span>
          ))}
        </span>
      )}
    </li>
  );
}

function Name({ workflow, title }: { workflow: string; title: string }) {
  return (
    <Link
      to="/workflows/$workflow"
      params={{ workflow }}
      className="font-serif text-[15.5px] font-semibold hover:underline"
    >
      {title}
    </Link>
  );
}
