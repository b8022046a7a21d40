import { Link } from "@tanstack/react-router";
import { toast } from "sonner";
import { type Run } from "../api/client";
import { Badge, Trouble } from "../ui/parts";
import { plural, stateWords, when } from "../ui/words";
import { MendButton } from "../mend/MendButton";
import { useCancel, useResume } from "../api/runs";
import { useStarts } from "./useStarts";

const isOver = (state: string) => !["queued", "running", "waiting"].includes(state);

/** What a run is, how it stands, and what can be done about it as a whole. */
export function RunHead({ run: { run, passes, first, answer } }: { run: Run }) {
  const state = stateWords(run);
  const resume = useResume(run.id);
  const cancel = useCancel(run.id);
  const start = useStarts(run.workflow, run.title);
  const last = passes.at(-1);
  const over = isOver(run.state);
  const tone = run.state === "waiting" ? "text-amber" : run.state === "failed" ? "text-rust" : "text-second";
  const aside = run.counts?.set_aside ?? 0;
  return (
    <>
      <div className="mb-1.5 flex items-center gap-3">
        <h1 className="truncate">
          <Link to="/workflows/$workflow" params={{ workflow: run.workflow }} className="hover:underline">
            {run.title}
          </Link>
        </h1>
        <Badge tone={state.tone}>{state.words}</Badge>
        <span className="truncate text-second">
          {when(run.accepted)} · revision {run.revision} ·{" "}
          {run.began === "by hand" ? `by ${passes[0]?.started_by ?? "hand"}` : run.began}
          {answer && ` · answered ${String(answer.status)} at ${answer.step}`}
          {passes.length > 1 && ` · pass ${String(passes.length)}, ${last?.kind ?? ""}`}
        </span>
        <div className="ml-auto flex gap-2">
          {!over && (
            <button
              className="btn"
              disabled={cancel.isPending}
              onClick={() => {
                cancel.mutate();
              }}
            >
              {run.cancelling ? "Cut its calls" : "Cancel"}
            </button>
          )}
          {over && (
            <button
              className="btn"
              disabled={start.busy}
              onClick={() => {
                start.begin({ again: run.id });
              }}
            >
              Start again
            </button>
          )}
          {run.state === "failed" && (
            <button
              className="btn btn-main"
              disabled={resume.isPending}
              onClick={() => {
                resume.mutate(undefined, { onSuccess: () => toast("Going on where it stopped") });
              }}
            >
              Go on where it stopped
            </button>
          )}
          {over && aside > 0 && (
            <MendButton
              main
              wish={{ what: "retry", where: { run: run.id, kind: "set_aside" } }}
              words={`Retry ${plural(aside, "item")} set aside`}
            />
          )}
        </div>
      </div>
      {run.message && <div className={`mb-1 ${tone}`}>{run.message}</div>}
      {first !== undefined && (!over || aside > 0) && (
        <div className="mb-1 text-second">
          It takes the first {plural(first, "item")} to its first write and sets the others aside; a retry
          lets them go on.
        </div>
      )}
      {!over && run.cancelling && (
        <div className="mb-1 text-amber">
          Nothing further begins. Calls that are under way are awaited; if they are cut, nobody knows whether
          they had their effect.
        </div>
      )}
      <Trouble error={resume.error ?? cancel.error ?? start.error} />
      {start.asks}
    </>
  );
}
