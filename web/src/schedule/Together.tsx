import type { Schemas } from "../api/client";
import { plural, when } from "../ui/words";

/** Minutes at which several workflows start, those of the same workflows as one line. */
export function Together({ schedule }: { schedule: Schemas["Schedule"] }) {
  const titles = new Map(schedule.entries.map((e) => [e.workflow, e.title]));
  const groups = new Map<string, string[]>();
  for (const t of schedule.together) {
    const key = t.workflows.join(" ");
    groups.set(key, [...(groups.get(key) ?? []), t.at]);
  }
  return (
    <section aria-label="At the same minute">
      <h2 className="label mb-1">At the same minute</h2>
      {groups.size === 0 && <p className="text-second">No two workflows start together within this span.</p>}
      <ul className="space-y-2">
        {[...groups].slice(0, 20).map(([key, ats]) => (
          <li key={key}>
            <div>
              {key
                .split(" ")
                .map((n) => titles.get(n) ?? n)
                .join("; ")}
            </div>
            <div className="hint">
              {ats.length === 1
                ? when(ats[0] ?? "")
                : `${plural(ats.length, "time")}, first ${when(ats[0] ?? "")}`}
            </div>
          </li>
        ))}
      </ul>
      {groups.size > 0 && (
        <p className="hint mt-2">
          Where that is too much for an application, spread the starts over some minutes.
        </p>
      )}
    </section>
  );
}
