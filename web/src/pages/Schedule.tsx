import { useState } from "react";
import { useSchedule } from "../api/schedule";
import { Days } from "../schedule/Days";
import { Missed } from "../schedule/Missed";
import { Stem } from "../schedule/Stem";
import { Together } from "../schedule/Together";
import { Trouble, Waiting } from "../ui/parts";

const spans = [
  { hours: 24, words: "A day" },
  { hours: 72, words: "Three days" },
  { hours: 168, words: "A week" },
  { hours: 744, words: "A month" },
];

/** What starts by the clock over the next days, what starts together, and what was missed. */
export function Schedule() {
  const [hours, setHours] = useState(72);
  const schedule = useSchedule(hours);
  const s = schedule.data;
  return (
    <div className="mx-auto max-w-[1240px] px-5 py-4">
      <div className="mb-3 flex items-center justify-between">
        <h1>Schedule</h1>
        <div role="group" aria-label="How far ahead" className="flex gap-1">
          {spans.map((x) => (
            <button
              key={x.hours}
              aria-pressed={hours === x.hours}
              className={`rounded-lg px-2.5 py-1 ${hours === x.hours ? "bg-tint font-semibold text-leafink" : "text-second hover:text-ink"}`}
              onClick={() => {
                setHours(x.hours);
              }}
            >
              {x.words}
            </button>
          ))}
        </div>
      </div>
      <Trouble error={schedule.error} />
      {schedule.isPending && <Waiting what="Reading what starts next" />}
      {s?.entries.length === 0 && (
        <p className="card p-5 text-second">
          Nothing starts by the clock. In a workflow’s first line choose “By the clock”, and say when.
        </p>
      )}
      {s && s.entries.length > 0 && (
        <>
          <Stem schedule={s} />
          <div className="mt-5 grid grid-cols-1 gap-6 lg:grid-cols-[1fr_340px]">
            <Days schedule={s} />
            <aside className="space-y-5">
              <Together schedule={s} />
              <Missed missed={s.missed} />
            </aside>
          </div>
        </>
      )}
    </div>
  );
}
