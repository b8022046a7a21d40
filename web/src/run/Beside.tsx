import { useNavigate } from "@tanstack/react-router";
import type { Run } from "../api/client";
import { useRuns } from "../api/runs";
import { when } from "../ui/words";

/** Chooses another run of the workflow to stand beside this one. */
export function Beside({ run, beside }: { run: Run; beside: string | undefined }) {
  const runs = useRuns({ workflow: run.run.workflow });
  const navigate = useNavigate();
  const others = runs.data?.runs.filter((r) => r.id !== run.run.id) ?? [];
  return (
    <>
      {" "}
      ·{" "}
      <select
        aria-label="Beside another run"
        disabled={others.length === 0}
        title={others.length === 0 ? "The workflow has no other run yet" : undefined}
        className="h-6 w-44 rounded-md border border-rule bg-sheet px-1 text-second"
        value={beside ?? ""}
        onChange={(e) => {
          void navigate({
            to: "/runs/$run",
            params: { run: run.run.id },
            search: (s) =>
              Object.fromEntries([
                ...Object.entries(s).filter(([k]) => k !== "beside"),
                ...(e.target.value ? [["beside", e.target.value]] : []),
              ]) as Record<string, string>,
            replace: true,
          });
        }}
      >
        <option value="">Beside another run…</option>
        {others.map((r) => (
          <option key={r.id} value={r.id}>
            {when(r.accepted)}, {r.state}
            {r.label ? `, ${r.label}` : ""}
          </option>
        ))}
      </select>
    </>
  );
}
