import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { toast } from "sonner";
import { asFields, type Workflow } from "../api/client";
import { useConnections } from "../api/connections";
import type { Edit } from "../api/draft";
import { useGoBack } from "../api/live";
import { usePause } from "../api/workflows";
import { Badge, Trouble } from "../ui/parts";
import { Stages } from "../ui/Stages";
import { plural, standingWords } from "../ui/words";
import { GoOn } from "./GoOn";

/** What the workflow is called, and whether it is live. */
export function BenchHead({
  workflow,
  far,
  onEdit,
}: {
  workflow: Workflow;
  far: { samples: number; rehearsed: boolean };
  onEdit: (edits: Edit[]) => void;
}) {
  const pause = usePause(workflow.name);
  const back = useGoBack(workflow.name);
  const state =
    workflow.state === "live"
      ? `Live, revision ${String(workflow.live)}`
      : workflow.state === "paused"
        ? "Paused"
        : "Draft";
  return (
    <div className="px-5 pt-4 pb-1.5">
      <Title workflow={workflow} onEdit={onEdit} />
      <div className="mt-1 flex items-center gap-2 text-second">
        <Badge tone={workflow.state === "live" ? "leaf" : "plain"}>{state}</Badge>
        {workflow.live !== undefined && workflow.changed > 0 && (
          <span>the draft differs in {plural(workflow.changed, "line")}</span>
        )}
        <Link to="/runs" search={{ workflow: workflow.name }} className="ml-auto hover:underline">
          Runs
        </Link>
        {workflow.live !== undefined && workflow.live > 1 && !workflow.kept && (
          <button
            className="hover:text-ink hover:underline"
            disabled={back.isPending}
            onClick={() => {
              const to = (workflow.live ?? 2) - 1;
              back.mutate(to, {
                onSuccess: () => toast(`Revision ${String(to)} is live again; the draft stays`),
              });
            }}
          >
            Back to revision {workflow.live - 1}
          </button>
        )}
        {workflow.state === "paused" && <GoOn workflow={workflow} />}
        {workflow.state === "live" && (
          <button
            className="hover:text-ink hover:underline"
            onClick={() => {
              pause.mutate(undefined, { onSuccess: () => toast("Paused: nothing starts it for now") });
            }}
          >
            Pause
          </button>
        )}
      </div>
      {workflow.live === undefined && <HowFar workflow={workflow} {...far} />}
      {workflow.standing && (
        <div className={`mt-0.5 text-xs ${workflow.standing.trouble ? "text-amber" : "text-second"}`}>
          {standingWords(workflow.standing)}
        </div>
      )}
      <Trouble error={pause.error ?? back.error} />
    </div>
  );
}

/** How far a workflow is that was never live, by the facts. */
function HowFar({
  workflow,
  samples,
  rehearsed,
}: {
  workflow: Workflow;
  samples: number;
  rehearsed: boolean;
}) {
  const connections = useConnections().data?.connections ?? [];
  const used = new Set(workflow.lines.flatMap((l) => l.connection ?? []));
  const working = connections.filter((c) => c.state === "ok").map((c) => c.name);
  const asks = asFields(workflow.trigger_settings)["fields"] !== undefined;
  return (
    <div className="mt-1.5">
      <Stages
        small
        list={[
          {
            words: "Connected",
            done: used.size > 0 ? [...used].every((n) => working.includes(n)) : working.length > 0,
          },
          { words: "A sample", done: samples > 0 || (workflow.alone === true && !asks) },
          { words: "A first line", done: workflow.lines.length > 0 },
          { words: "Rehearsed", done: rehearsed },
          { words: "Live", done: false },
        ]}
      />
    </div>
  );
}

function Title({ workflow, onEdit }: { workflow: Workflow; onEdit: (edits: Edit[]) => void }) {
  const [title, setTitle] = useState(workflow.title);
  return (
    <input
      aria-label="Title"
      className="-mx-1 w-full rounded-md border border-transparent bg-transparent px-1 font-serif text-[21px] font-semibold hover:border-rule"
      value={title}
      onChange={(e) => {
        setTitle(e.target.value);
      }}
      onBlur={() => {
        if (title && title !== workflow.title) onEdit([{ op: "set", key: "title", value: title }]);
      }}
    />
  );
}
