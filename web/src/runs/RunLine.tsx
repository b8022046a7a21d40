import { Link } from "@tanstack/react-router";
import type { Schemas } from "../api/client";
import { Badge } from "../ui/parts";
import { clockWords, stateWords, took } from "../ui/words";

/** A run in the list. */
export function RunLine({ r }: { r: Schemas["RunSummary"] }) {
  const state = stateWords(r);
  const c = r.counts;
  const parts = c
    ? ([
        [c.in, "in"],
        [c.through, "through"],
        [c.held_back, "held back"],
        [c.set_aside, "set aside"],
        [c.stopped, "stopped"],
        [c.not_done, "not done"],
      ] as const)
    : [];
  return (
    <tr className="border-b border-rule last:border-0 hover:bg-tint/60">
      <td className="px-4 py-2">
        <Link to="/runs/$run" params={{ run: r.id }} className="font-medium hover:underline">
          {r.label || r.title}
        </Link>
        <div className="text-xs text-third">
          {r.title}, {r.began}
        </div>
      </td>
      <td className="px-3">
        <Badge tone={state.tone}>{state.words}</Badge>
      </td>
      <td className="px-3 text-second">
        {parts
          .filter(([n, w]) => n > 0 || w === "in")
          .map(([n, w]) => (
            <span key={w} className="mr-2.5">
              <b className="font-semibold text-ink">{n.toLocaleString("en")}</b> {w}
            </span>
          ))}
      </td>
      <td className="px-3 whitespace-nowrap text-second">{clockWords(r.accepted)}</td>
      <td className="px-3 whitespace-nowrap text-second">{took(r.accepted, r.ended)}</td>
    </tr>
  );
}
