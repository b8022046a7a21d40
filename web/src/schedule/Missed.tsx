import { Link } from "@tanstack/react-router";
import type { Schemas } from "../api/client";
import { plural, when } from "../ui/words";

/** Times at which nobody could start anything. */
export function Missed({ missed }: { missed: Schemas["MissedTimes"][] }) {
  return (
    <section aria-label="Missed">
      <h2 className="label mb-1">Missed</h2>
      {missed.length === 0 && <p className="text-second">Nothing was missed in the last 90 days.</p>}
      <ul className="space-y-2">
        {missed.slice(0, 20).map((m) => (
          <li key={`${m.workflow} ${m.noted}`}>
            <Link to="/workflows/$workflow" params={{ workflow: m.workflow }} className="hover:underline">
              {m.title}
            </Link>
            <div className="hint">
              {plural(m.times, "time")}, {when(m.first)}
              {m.times > 1 && ` to ${when(m.last)}`}; {startedWords(m)}
            </div>
          </li>
        ))}
      </ul>
    </section>
  );
}

function startedWords(m: Schemas["MissedTimes"]): string {
  if (m.started === 0) return "let go";
  if (m.started === 1) return m.times === 1 ? "it started later" : "the last started a run later";
  return m.started === m.times
    ? "each started a run later"
    : `${String(m.started)} of them started a run later`;
}
