import type { Workflow } from "../api/client";

/** What to do next, where there are no rows yet. */
export function Invitation({ workflow, samples }: { workflow: Workflow; samples: number }) {
  const words =
    workflow.lines.length === 0
      ? "Add a first line on the left: say what should happen."
      : !workflow.alone && samples === 0
        ? "Take a sample first: open the first line on the left, then take the next call, or write one."
        : "Rehearse to see every record’s way through the lines. Nothing leaves the building.";
  return (
    <div className="card flex flex-1 items-center justify-center p-10 text-center font-serif text-[16px] text-second">
      {words}
    </div>
  );
}
