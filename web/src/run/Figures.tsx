import type { Run } from "../api/client";
import { took } from "../ui/words";

/** What a run has done, in figures. */
export function Figures({ run: { run } }: { run: Run }) {
  const c = run.counts;
  if (!c) return <span />;
  const figures: [number, string][] = [
    [c.in, "in"],
    [c.through, "through"],
    [c.joined ?? 0, "joined groups"],
    [c.held_back, "held back"],
    [c.gave_nothing, "gave nothing"],
    [c.set_aside, "set aside"],
    [c.stopped, "stopped"],
    [c.may_have_been_sent, "may have been sent"],
    [c.not_done, "not done"],
  ];
  return (
    <div className="flex flex-wrap gap-x-5">
      {figures
        .filter(([n, w]) => n > 0 || w === "in")
        .map(([n, w]) => (
          <span key={w} className="text-second">
            <b className="font-semibold text-ink">{n.toLocaleString("en")}</b> {w}
          </span>
        ))}
      {run.ended && <span className="font-semibold">{took(run.accepted, run.ended)}</span>}
      {c.calls > 0 && (
        <span className="text-second">
          <b className="font-semibold text-ink">{c.calls.toLocaleString("en")}</b>{" "}
          {c.calls === 1 ? "call" : "calls"}
          {c.units > 0 && (
            <>
              , <b className="font-semibold text-ink">{c.units.toLocaleString("en")}</b> units
            </>
          )}
        </span>
      )}
    </div>
  );
}
