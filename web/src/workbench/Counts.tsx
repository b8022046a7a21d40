import type { Column, Line } from "../api/client";
import { plural } from "../ui/words";

/** How the rows go through the line. */
export function Counts({ line, column }: { line: Line; column: Column | undefined }) {
  if (!column || column.in === 0) return null;
  const n = (x: number) => x.toLocaleString("en");
  const words =
    line.type === "filter" || line.type === "take" || line.type === "distinct"
      ? `${n(column.out)} of ${n(column.in)} rows go on.`
      : line.type === "batch" || line.type === "gather"
        ? `${plural(column.in, "row")} become${column.in === 1 ? "s" : ""} ${n(column.out)}.`
        : line.type === "spread"
          ? `${plural(column.in, "row")} become${column.in === 1 ? "s" : ""} ${n(column.out)}.`
          : line.type === "loop" && column.rounds
            ? `${plural(column.rounds, "round")}.`
            : line.type === "branch" && column.ways
              ? `${column.ways
                  .filter((w) => w.name || w.count > 0)
                  .map((w) => `${w.name ? w.name.replaceAll("_", " ") : "none of them"} ${n(w.count)}`)
                  .join(", ")}.`
              : "";
  return words ? <div className="hint">{words}</div> : null;
}
