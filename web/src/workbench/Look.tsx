import type { Workflow } from "../api/client";
import { plural } from "../ui/words";

/** What is to be looked at before the draft can go live. */
export function Look({ workflow, onChoose }: { workflow: Workflow; onChoose: (name: string) => void }) {
  const problems = workflow.problems.filter((p) => !p.gap);
  const gaps = workflow.problems.length - problems.length;
  const first = problems.find((p) => p.severity === "error") ?? problems[0];
  if (!first)
    return gaps > 0 ? (
      <div className="m-4 mt-0 px-3 text-second">
        {plural(gaps, "thing")} to fill in before it can go live.
      </div>
    ) : null;
  return (
    <div className="m-4 mt-0 rounded-lg bg-ambertint px-3 py-2.5 text-ink">
      <b className="text-amber">
        {problems.length === 1 ? "One thing to look at." : `${String(problems.length)} things to look at.`}
      </b>{" "}
      {first.step
        ? `Line ${workflow.lines.find((l) => l.name === first.step && l.number)?.number ?? ""}: `
        : ""}
      {first.message} {first.cure}{" "}
      {(first.step ?? (first.path.startsWith("trigger") ? "-" : "")) && (
        <button
          className="underline"
          onClick={() => {
            onChoose(first.step ?? "-");
          }}
        >
          Show
        </button>
      )}
    </div>
  );
}
