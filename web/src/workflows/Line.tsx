import { Link } from "@tanstack/react-router";
import type { Schemas } from "../api/client";
import { Badge } from "../ui/parts";
import { plural, standingWords, stateWords, when } from "../ui/words";

/** A workflow in the list. */
export function Line({ w }: { w: Schemas["WorkflowSummary"] }) {
  const last = w.last && stateWords(w.last);
  return (
    <tr className="border-b border-rule last:border-0 hover:bg-tint/60">
      <td className="px-4 py-2.5">
        <Link
          to="/workflows/$workflow"
          params={{ workflow: w.name }}
          className="font-serif text-[15.5px] font-semibold hover:underline"
        >
          {w.title}
        </Link>
        <div className="text-xs text-third">
          {w.name}, {plural(w.steps ?? 0, "step")}
          {w.errors ? `, ${plural(w.errors, "thing")} to mend` : ""}
        </div>
      </td>
      <td className="px-3">
        <Badge tone={w.state === "live" ? "leaf" : "plain"}>
          {w.state === "live"
            ? `Live, revision ${String(w.live)}`
            : w.state === "paused"
              ? "Paused"
              : "Draft"}
        </Badge>
      </td>
      <td className="px-3 text-second">
        {w.trigger}
        {w.standing && (
          <div className={`text-xs ${w.standing.trouble ? "text-amber" : "text-third"}`}>
            {standingWords(w.standing)}
          </div>
        )}
      </td>
      <td className="px-3">
        {w.last && last ? (
          <Link to="/runs/$run" params={{ run: w.last.id }} className="hover:underline">
            <Badge tone={last.tone}>{last.words}</Badge>{" "}
            <span className="text-xs text-second">{when(w.last.accepted)}</span>
          </Link>
        ) : (
          <span className="text-third">never ran</span>
        )}
      </td>
    </tr>
  );
}
