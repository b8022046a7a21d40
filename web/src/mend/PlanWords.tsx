import type { Schemas } from "../api/client";
import { plural } from "../ui/words";

/** What a mending would do, in sentences. */
export function PlanWords({ plan, what }: { plan: Schemas["MendingPlan"]; what: string }) {
  if (plan.items === 0) return <p>No such item waits for anybody any more.</p>;
  return (
    <div className="space-y-2.5">
      <p>
        <b>{plural(plan.items, "item")}</b> in {plural(plan.runs, "run")}
        {plan.looked < plan.runs && (
          <span className="text-second">
            ; {plural(plan.looked, "run")} looked at, the others are like them
          </span>
        )}
        .
      </p>
      <ul className="space-y-1">
        {plan.steps.map((s) => (
          <li key={`${s.workflow} ${s.step}`}>
            {plural(s.count, "item")} {verb(what, s.writes, s.count)} <b>{s.sentence || s.step}</b>
          </li>
        ))}
      </ul>
      {plan.changes && <List title="New in that revision" list={plan.changes} />}
      {plan.late && <List title="Lists that were closed" list={plan.late} tone="text-amber" />}
      {plan.refused && <List title="This cannot be done" list={plan.refused} tone="text-rust" />}
    </div>
  );
}

function verb(what: string, writes: boolean, n: number): string {
  if (what === "confirm")
    return n === 1 ? "counts as done at, and goes on behind" : "count as done at, and go on behind";
  if (writes) return n === 1 ? "is sent by" : "are sent by";
  return n === 1 ? "goes on at" : "go on at";
}

function List({ title, list, tone = "text-second" }: { title: string; list: string[]; tone?: string }) {
  return (
    <div>
      <div className="text-xs font-semibold text-second">{title}</div>
      <ul className={tone}>
        {list.map((l) => (
          <li key={l}>{l}</li>
        ))}
      </ul>
    </div>
  );
}
