import { useNavigate, useSearch } from "@tanstack/react-router";
import { Fragment } from "react";
import { useRunPages, type RunFilter } from "../api/runs";
import { useWorkflows } from "../api/workflows";
import { RunFilters } from "../runs/RunFilters";
import { RunLine } from "../runs/RunLine";
import { Nothing, Trouble, Waiting } from "../ui/parts";
import { dayWords } from "../ui/words";

export function Runs() {
  const filter: RunFilter = useSearch({ strict: false });
  const navigate = useNavigate();
  const setFilter = (search: RunFilter) => {
    void navigate({ to: "/runs", search: { ...search }, replace: true });
  };
  const runs = useRunPages(filter);
  const list = runs.data?.pages.flatMap((p) => p.runs) ?? [];
  const workflows = useWorkflows();
  const narrowed = Object.keys(filter).length > 0;
  return (
    <div className="mx-auto max-w-[1240px] px-5 py-4">
      <div className="mb-3 flex items-center gap-3">
        <h1 className="mr-auto">Runs</h1>
        <RunFilters filter={filter} workflows={workflows.data?.workflows ?? []} onChange={setFilter} />
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
                  <RunLine r={r} />
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
