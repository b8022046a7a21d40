import { Link } from "@tanstack/react-router";
import { Redo2, Undo2 } from "lucide-react";
import type { Line, Schemas, Workflow } from "../api/client";
import { plural } from "../ui/words";
import { standing } from "./followed";
import { StartByHand } from "./StartByHand";
import type { Bench } from "./useBench";

/** Of which draft the rows are, and what can be done with the workflow as a whole. */
export function BenchBar({
  workflow,
  bench,
  line,
}: {
  workflow: Workflow;
  bench: Bench;
  line: Line | undefined;
}) {
  const { draft, rehearse } = bench;
  const saving = draft.edit.isPending || draft.save.isPending || draft.turn.isPending;
  const rows = standing(bench.seen, bench.followed, workflow, bench.samples?.length ?? 0);
  return (
    <div className="mb-2.5 flex flex-wrap items-center gap-x-2 gap-y-1.5">
      <span
        className="mr-auto min-w-[150px] flex-1 text-second"
        data-testid="rows-of"
        title={
          bench.followed ? "Computed anew after each edit from what the last rehearsal has read" : undefined
        }
      >
        {rows.words}
        {rows.care && <span className="text-amber">, {rows.care}</span>}
        <AsExpected list={bench.seen?.expected ?? []} />
      </span>
      <div className="flex items-center gap-2">
        <span className="text-xs whitespace-nowrap text-third" role="status">
          {bench.unsaved === "away"
            ? "Not saved yet; it is kept here"
            : saving || bench.unsaved === "soon"
              ? "Saving…"
              : draft.edit.isError || draft.save.isError
                ? ""
                : "Draft saved"}
        </span>
        <Turn
          words="Undo"
          keys="Ctrl+Z"
          n={draft.ways.back}
          onTurn={() => {
            bench.lines.back("back");
          }}
        >
          <Undo2 size={15} />
        </Turn>
        <Turn
          words="Redo"
          keys="Ctrl+Shift+Z"
          n={draft.ways.forth}
          onTurn={() => {
            bench.lines.back("forth");
          }}
        >
          <Redo2 size={15} />
        </Turn>
        <button className="btn btn-plain" aria-pressed={bench.asText} onClick={bench.turnText}>
          {bench.asText ? "As sentences" : "As text"}
        </button>
        {workflow.live !== undefined && <StartByHand workflow={workflow} />}
        {line && line !== workflow.lines[workflow.lines.length - 1] && (
          <button
            className="btn"
            disabled={rehearse.isPending}
            onClick={() => {
              rehearse.to(line.name);
            }}
          >
            Rehearse to here
          </button>
        )}
        <button
          className="btn"
          disabled={rehearse.isPending}
          onClick={() => {
            rehearse.to(undefined);
          }}
        >
          {rehearse.isPending ? "Rehearsing…" : "Rehearse"}
        </button>
        <Link to="/workflows/$workflow/live" params={{ workflow: workflow.name }} className="btn btn-main">
          Go live…
        </Link>
      </div>
    </div>
  );
}

/** How many samples become what is expected of them. */
function AsExpected({ list }: { list: Schemas["Differs"][] }) {
  if (list.length === 0) return null;
  const good = list.filter((e) => e.differs.length === 0).length;
  return (
    <span className={good === list.length ? "text-leafink" : "text-rust"}>
      {" "}
      · {good} of {list.length} as expected
    </span>
  );
}

function Turn({
  words,
  keys,
  n,
  onTurn,
  children,
}: {
  words: string;
  keys: string;
  n: number;
  onTurn: () => void;
  children: React.ReactNode;
}) {
  return (
    <button
      className="btn btn-plain px-1.5"
      aria-label={words}
      title={n > 0 ? `${words} (${keys}), ${plural(n, "step")}` : `Nothing to ${words.toLowerCase()}`}
      disabled={n === 0}
      onClick={onTurn}
    >
      {children}
    </button>
  );
}
