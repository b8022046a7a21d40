import { Link, useNavigate, useParams } from "@tanstack/react-router";
import { ArrowLeft } from "lucide-react";
import { useState } from "react";
import { toast } from "sonner";
import type { Schemas, Workflow } from "../api/client";
import { useAhead } from "../api/live";
import { useGoLive, useWorkflow } from "../api/workflows";
import { Expect, FIRST, FirstRun, Receives, UnderWay, WhatChanges, WhatStarts } from "../golive/parts";
import type { WhatWasKept as Kept } from "../api/schedule";
import { WhatWasKept } from "../golive/WhatWasKept";
import { NextTimes } from "../golive/NextTimes";
import { ToLookAt } from "../golive/ToLookAt";
import { Trouble, Waiting } from "../ui/parts";

/** Going live, as one page of sentences: what starts it, what changes, who gets something, what is to look at. */
export function GoLive() {
  const { workflow: name } = useParams({ from: "/workflows/$workflow/live" });
  const workflow = useWorkflow(name);
  const ahead = useAhead(name);
  if (workflow.isPending || ahead.isPending) return <Waiting what="Looking at what is ahead" />;
  if (!workflow.data || !ahead.data)
    return (
      <div className="p-5">
        <Trouble error={workflow.error ?? ahead.error} />
        <Link to="/workflows/$workflow" params={{ workflow: name }} className="underline">
          Back to the workbench
        </Link>
      </div>
    );
  return <Ahead workflow={workflow.data} ahead={ahead.data} />;
}

function Ahead({ workflow, ahead }: { workflow: Workflow; ahead: Schemas["Ahead"] }) {
  const navigate = useNavigate();
  const live = useGoLive(workflow);
  const errors = workflow.problems.filter((p) => p.severity === "error");
  const warnings = workflow.problems.filter((p) => p.severity === "warning");
  const [ticks, setTicks] = useState(0);
  const [kept, setKept] = useState<Kept>();
  const [few, setFew] = useState(false);
  const unsaid = (workflow.kept ?? 0) > 0 && kept === undefined;
  const missing = errors.length > 0 ? 0 : warnings.length > 4 ? 1 - ticks : warnings.length - ticks;
  const leave = () => void navigate({ to: "/workflows/$workflow", params: { workflow: workflow.name } });
  return (
    <div className="grid min-h-full grid-cols-1 lg:grid-cols-[1fr_376px]">
      <div className="max-w-[860px] px-10 py-4">
        <Link
          to="/workflows/$workflow"
          params={{ workflow: workflow.name }}
          className="inline-flex items-center gap-1 text-second hover:underline"
        >
          <ArrowLeft size={13} aria-hidden /> {workflow.title}
        </Link>
        <h1 className="mb-2">Put “{workflow.title}” live</h1>
        <WhatStarts ahead={ahead} />
        <WhatChanges ahead={ahead} />
        <Receives writes={ahead.writes} />
        <Expect ahead={ahead} />
        <UnderWay ahead={ahead} />
        {ahead.first_write && <FirstRun write={ahead.first_write} chosen={few} onChoose={setFew} />}
        {workflow.kept !== undefined && (
          <WhatWasKept calls={workflow.kept} chosen={kept} onChoose={setKept} />
        )}
        <ToLookAt errors={errors} warnings={warnings} onTicks={setTicks} />
      </div>
      <aside className="flex flex-col gap-5 border-rule bg-sheet px-6 py-5 lg:border-l" aria-label="When">
        {ahead.cadence && <NextTimes cadence={ahead.cadence} beside={ahead.beside ?? []} />}
        <div className="mt-auto border-t border-rule pt-4">
          <Trouble error={live.error} />
          <div className="flex items-center gap-2">
            <button
              className="btn btn-main"
              disabled={errors.length > 0 || missing > 0 || unsaid || live.isPending}
              onClick={() => {
                live.mutate(
                  { kept, first: few ? FIRST : undefined },
                  {
                    onSuccess: (w) => {
                      toast(`Live as revision ${String(w.live)}`);
                      leave();
                    },
                  },
                );
              }}
            >
              Put it live
            </button>
            <span className="text-second">
              {errors.length > 0
                ? "something is to mend first"
                : missing > 0
                  ? missing === 1
                    ? "one tick is missing"
                    : `${String(missing)} ticks are missing`
                  : unsaid
                    ? "say what becomes of what was kept"
                    : ""}
            </span>
            <button className="btn btn-plain ml-auto" onClick={leave}>
              Not yet
            </button>
          </div>
          {ahead.from !== undefined && (
            <p className="hint mt-2">Revision {ahead.from} stays at hand: one click takes it back.</p>
          )}
        </div>
      </aside>
    </div>
  );
}
