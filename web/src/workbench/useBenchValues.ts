import { useMemo, useRef, useEffect } from "react";
import { toast } from "sonner";
import { asFields, type Workflow } from "../api/client";
import type { Source } from "../form/finder/paths";
import type { Values } from "../form/values";
import { find, firstName, isCase, stepsIn, TOP } from "./lines";
import { sourcesOf } from "./sources";
import type { Bench } from "./useBench";

/** What the expressions of the chosen line can read, worked out when it is asked for. */
export function useBenchValues(workflow: Workflow, bench: Bench, row: number): Values {
  const { seen, chosen, samples, draft } = bench;
  const { mutate } = draft.edit;
  const now = useRef(workflow);
  useEffect(() => {
    now.current = workflow;
  });
  const line = find(workflow.lines, chosen);
  return useMemo(() => {
    let known: Source[] | undefined;
    const triggers = seen?.items ?? samples?.map((s) => s.fields) ?? [];
    return {
      sources: () =>
        (known ??= sourcesOf(
          seen,
          workflow,
          line,
          row,
          triggers.map((f) => asFields(f)),
        )),
      ...(line === undefined || isCase(line)
        ? {}
        : {
            spread: (list: string) => {
              const { lines } = now.current;
              const block = line.in ?? TOP;
              const name = firstName(
                "spread",
                lines.map((l) => l.name),
              );
              const to = stepsIn(lines, block).findIndex((l) => l.name === line.name);
              mutate([
                {
                  op: "insert",
                  in: block,
                  to,
                  value: { name, type: "spread", settings: { list, carry: "all" } },
                },
              ]);
              toast("Added a line before this one: one item for each of the list");
            },
          }),
    };
  }, [seen, samples, workflow, line, row, mutate]);
}
