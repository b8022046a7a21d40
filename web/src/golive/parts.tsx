import type { ReactNode } from "react";
import type { Schemas } from "../api/client";
import { plural } from "../ui/words";

type Ahead = Schemas["Ahead"];

/** A part of the page, under its heading. */
export function Part({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section className="border-t border-rule py-3" aria-label={title}>
      <h2 className="label mb-1">{title}</h2>
      {children}
    </section>
  );
}

export function WhatStarts({ ahead }: { ahead: Ahead }) {
  return (
    <Part title="What starts it">
      <p className="font-serif text-[15.5px]">
        {ahead.trigger}.{ahead.limits.map((s) => ` ${s}.`)}
      </p>
      {ahead.cadence && (
        <p className="text-second">
          What was due before it goes live, or while it is paused, is not made up for.
        </p>
      )}
      {ahead.cadence?.trouble && <p className="text-amber">{ahead.cadence.trouble}</p>}
    </Part>
  );
}

const signs: Record<string, { sign: string; tone: string }> = {
  added: { sign: "+", tone: "bg-tint text-leafink" },
  removed: { sign: "−", tone: "bg-ambertint text-rust" },
  changed: { sign: "~", tone: "bg-ambertint text-amber" },
  moved: { sign: "↕", tone: "bg-ambertint text-amber" },
};

export function WhatChanges({ ahead }: { ahead: Ahead }) {
  return (
    <Part
      title={
        ahead.from === undefined ? "What it will do" : `What changes since revision ${String(ahead.from)}`
      }
    >
      <ul className="space-y-1">
        {ahead.changes.map((c, i) => {
          const s = signs[c.kind] ?? { sign: "~", tone: "bg-ambertint text-amber" };
          return (
            <li key={i} className="flex gap-2.5 font-serif text-[15.5px]">
              <span
                aria-hidden
                className={`mt-0.5 flex h-5 w-5 shrink-0 items-center justify-center rounded font-sans text-xs font-semibold ${s.tone}`}
              >
                {s.sign}
              </span>
              <span>{c.sentence}</span>
            </li>
          );
        })}
        {ahead.changes.length === 0 && <li className="text-second">Nothing; the draft is the same.</li>}
      </ul>
    </Part>
  );
}

/** Who gets something, and what did not get anything before. */
export function Receives({ writes }: { writes: Schemas["AheadWrite"][] }) {
  return (
    <Part title="Who gets something">
      {writes.length === 0 && <p className="text-second">Nobody: it writes nothing outside.</p>}
      <ul className="space-y-0.5">
        {writes.map((w) => (
          <li key={w.step} className="flex items-baseline gap-2">
            <span className="w-8 shrink-0 text-third tabular-nums">{w.number}</span>
            <span>
              {w.sentence}
              {w.connection && <span className="text-second">, as {w.connection}</span>}
            </span>
            {w.new && (
              <span className="rounded-full bg-ambertint px-2 text-xs font-semibold text-amber">new</span>
            )}
          </li>
        ))}
      </ul>
    </Part>
  );
}

/** What is to be expected, by the clock and by how it ran of late. */
export function Expect({ ahead }: { ahead: Ahead }) {
  const l = ahead.lately;
  const figures = [
    ahead.a_month !== undefined
      ? [ahead.a_month.toLocaleString("en"), "runs in thirty days"]
      : l && [
          l.runs.toLocaleString("en"),
          l.runs === 1 ? "run in the last thirty days" : "runs in the last thirty days",
        ],
    l?.items !== undefined && [round(l.items), l.items === 1 ? "item a run" : "items a run"],
    l?.seconds !== undefined && [seconds(l.seconds), "a run"],
  ].filter((x) => x !== undefined && x !== false);
  if (figures.length === 0) return null;
  return (
    <Part title="What to expect">
      <dl className="grid grid-cols-4 gap-4">
        {figures.map(([figure, words]) => (
          <div key={words} className="flex flex-col-reverse">
            <dt className="text-second">{words}</dt>
            <dd className="font-serif text-[19px] font-semibold tabular-nums">{figure}</dd>
          </div>
        ))}
      </dl>
    </Part>
  );
}

const round = (n: number) => (n < 10 ? Number(n.toFixed(1)) : Math.round(n)).toLocaleString("en");

const seconds = (s: number) =>
  s < 1
    ? `${String(Math.max(1, Math.round(s * 1000)))} ms`
    : s < 90
      ? `${s.toFixed(1)} s`
      : `${round(s / 60)} min`;

export function UnderWay({ ahead }: { ahead: Ahead }) {
  if (ahead.under_way.length === 0) return null;
  return (
    <Part title="What is under way">
      {ahead.under_way.map((u) => (
        <p key={u.revision}>
          {plural(u.runs, "run")} of revision {u.revision} {u.runs === 1 ? "has" : "have"} not ended;{" "}
          {u.runs === 1 ? "it finishes" : "they finish"} on revision {u.revision}.
        </p>
      ))}
    </Part>
  );
}

/** How many items the first run takes, where somebody wants to look before the others go on. */
export const FIRST = 5;

/** Lets somebody have the first run take some items only. */
export function FirstRun({
  write,
  chosen,
  onChoose,
}: {
  write: Schemas["AheadLine"];
  chosen: boolean;
  onChoose: (few: boolean) => void;
}) {
  return (
    <Part title="The first run">
      <label className="flex items-start gap-2.5">
        <input
          type="checkbox"
          className="mt-1 accent-leaf"
          checked={chosen}
          onChange={(e) => {
            onChoose(e.target.checked);
          }}
        />
        <span>
          It takes the first {plural(FIRST, "item")} on from line {write.number}.
          <span className="block text-second">
            The others wait there, set aside, until you have looked and retry them. Later runs take all.
          </span>
        </span>
      </label>
    </Part>
  );
}
