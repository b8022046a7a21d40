import { Link } from "@tanstack/react-router";
import { Fragment, useState } from "react";
import type { Schemas } from "../api/client";
import { useRunPages, type RunFilter } from "../api/runs";
import { useWorkflows } from "../api/workflows";
import { Badge, Nothing, Trouble, Waiting } from "../ui/parts";
import { clockWords, dayWords, stateWords, took } from "../ui/words";

const states: Schemas["RunState"][] = [
  "running",
  "queued",
  "waiting",
  "succeeded",
  "partial",
  "failed",
  "cancelled",
];

export function Runs() {
  const [filter, setFilter] = useState<RunFilter>({});
  const runs = useRunPages(filter);
  const list = runs.data?.pages.flatMap((p) => p.runs) ?? [];
  const workflows = useWorkflows();
  const narrowed = filter.state !== undefined || filter.workflow !== undefined;
  return (
    <div className="mx-auto max-w-[1240px] px-5 py-4">
      <div className="mb-3 flex items-center gap-3">
        <h1 className="mr-auto">Runs</h1>
        <select
          aria-label="Workflow"
          className="field w-56"
          value={filter.workflow ?? ""}
          onChange={(e) => {
            setFilter({ ...filter, workflow: e.target.value || undefined });
          }}
        >
          <option value="">All workflows</option>
          {workflows.data?.workflows.map((w) => (
            <option key={w.name} value={w.name}>
              {w.title}
            </option>
          ))}
        </select>
        <select
          aria-label="State"
          className="field w-40"
          value={filter.state ?? ""}
          onChange={(e) => {
            setFilter({ ...filter, state: (e.target.value || undefined) as RunFilter["state"] });
          }}
        >
          <option value="">Any state</option>
          {states.map((s) => (
            <option key={s}>{s}</option>
          ))}
        </select>
      </div>
      <Trouble error={runs.error} />
      {runs.isPending && <Waiting what="Reading the runs" />}
      {runs.data && list.length === 0 && (
        <Nothing>
          {narrowed
            ? "No run fits these."
            : "Nothing has run yet. Put a workflow live, or start one by hand."}
        </Nothing>
      )}
      {list.length > 0 && (
        <div className="card overflow-hidden">
          <table className="w-full">
            <thead>
              <tr className="border-b border-rule text-left text-xs text-second">
                <th className="px-4 py-2 font-medium">Run</th>
                <th className="px-3 font-medium">State</th>
                <th className="px-3 font-medium">Items</th>
                <th className="px-3 font-medium">Began</th>
                <th className="px-3 font-medium">Took</th>
              </tr>
            </thead>
            <tbody>
              {list.map((r, i) => (
                <Fragment key={r.id}>
                  {(i === 0 || dayWords(r.accepted) !== dayWords(list[i - 1]?.accepted ?? r.accepted)) && (
                    <tr className="border-b border-rule bg-paper">
                      <th colSpan={5} className="px-4 py-1.5 text-left text-xs font-semibold text-second">
                        {dayWords(r.accepted)}
                      </th>
                    </tr>
                  )}
                  <Line r={r} />
                </Fragment>
              ))}
            </tbody>
          </table>
          {runs.hasNextPage && (
            <button
              type="button"
              className="w-full border-t border-rule py-2 text-second hover:bg-tint/60"
              disabled={runs.isFetchingNextPage}
              onClick={() => {
                void runs.fetchNextPage();
              }}
            >
              {runs.isFetchingNextPage ? "Reading older runs…" : "Older runs"}
            </button>
          )}
        </div>
      )}
    </div>
  );
}

function Line({ r }: { r: Schemas["RunSummary"] }) {
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
          {r.title}, {r.trigger === "webhook" ? "called" : "by hand"}
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
