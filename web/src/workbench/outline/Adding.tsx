import type { Line } from "../../api/client";
import type { Edit } from "../../api/draft";
import { AddLine } from "../AddLine";
import { isCase } from "../lines";

/** A place among the lines where one can be added. */
export function Adding({
  depth,
  ...props
}: {
  depth: number;
  prompt: string;
  taken: string[];
  onAdd: (step: Edit["value"]) => void;
  onLeave?: () => void;
}) {
  return (
    <div
      role="treeitem"
      aria-level={depth + 1}
      aria-selected={false}
      aria-label={props.prompt}
      className="mr-4"
      style={{ marginLeft: 36 + 18 * depth }}
    >
      <AddLine {...props} />
    </div>
  );
}

/** What is asked where a line is added within another. */
export const promptOf = (l: Line) =>
  !isCase(l)
    ? "What happens in each round…"
    : l.type === "fallback"
      ? "What happens if it fails…"
      : l.type === "on_failure"
        ? "What happens when a run fails…"
        : l.name === "else"
          ? "What happens to all others…"
          : `What happens in the case ${l.name.replaceAll("_", " ")}…`;
