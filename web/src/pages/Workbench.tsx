import { useParams } from "@tanstack/react-router";
import { lazy, Suspense, useMemo, useState } from "react";
import { toast } from "sonner";
import { asFields, type Workflow } from "../api/client";
import { useKinds } from "../api/connectors";
import { useCadence } from "../api/schedule";
import { standsAs } from "../workbench/When";
import { useSamples } from "../api/samples";
import { useCallSheet, useRehearsal, useWorkflow } from "../api/workflows";
import { Focus, type Inserting } from "../form/focus";
import { ValuesContext } from "../form/values";
import { useBenchValues } from "../workbench/useBenchValues";
import { triggerOf } from "../lattice/address";
import { rowFor } from "../lattice/shape";
import { Trouble, Waiting } from "../ui/parts";
import { Split } from "../ui/Split";
import { rowWords } from "../ui/words";
import { BenchBar } from "../workbench/BenchBar";
import { BenchHead } from "../workbench/BenchHead";
import { Conflict } from "../workbench/Conflict";
import { Invitation } from "../workbench/Invitation";
import { lineInAddress } from "../workbench/lineInAddress";
import { TRIGGER } from "../workbench/lines";
import { itemBefore } from "../workbench/itemBefore";
import { Look } from "../workbench/Look";
import { Outline } from "../workbench/Outline";
import { Sheet } from "../workbench/Sheet";
import { useBench } from "../workbench/useBench";

// The editor of the text is loaded when it is opened.
const TextView = lazy(() => import("../workbench/TextView").then((m) => ({ default: m.TextView })));

export function Workbench() {
  const { workflow: name } = useParams({ from: "/workflows/$workflow" });
  const workflow = useWorkflow(name);
  // All that the bench shows at first is read together: what came later would move the lines.
  // Once open, it stays open while single parts are read anew.
  const [opened, setOpened] = useState<string>();
  const called = lineInAddress() === TRIGGER && workflow.data?.called === true;
  const times = useCadence(lineInAddress() === TRIGGER ? standsAs(workflow.data) : undefined);
  const parts = [
    workflow,
    useSamples(name),
    useRehearsal(name),
    useKinds(),
    useCallSheet(name, called),
    times,
  ];
  const reading = opened !== name && parts.some((p) => p.isLoading);
  if (!reading && opened !== name) setOpened(name);
  if (reading || workflow.isPending) return <Waiting what="Opening the workbench" />;
  if (!workflow.data)
    return (
      <div className="p-5">
        <Trouble error={workflow.error} />
      </div>
    );
  return <Bench key={name} workflow={workflow.data} />;
}

function Bench({ workflow }: { workflow: Workflow }) {
  const bench = useBench(workflow);
  const { seen, spot, chosen, samples, draft, rehearse } = bench;
  const focus = useMemo<Inserting>(() => ({ current: undefined }), []);
  const line = workflow.lines.find((l) => l.name === chosen && l.kind !== "case");
  const lineAt = seen?.columns.findIndex((c) => c.name === line?.name) ?? -1;
  const at = {
    row: rowFor(seen?.rows ?? [], spot?.row ?? 0, lineAt),
    column: spot?.column ?? Math.max(0, lineAt),
  };
  const trigger = asFields(
    seen?.items?.[triggerOf(seen.rows[at.row]?.address ?? "0") ?? 0] ?? samples?.[0]?.fields,
  );
  const values = useBenchValues(workflow, bench, at.row);
  const item = line && values.sources().find((s) => s.prefix === "item")?.chosen;
  return (
    <Focus.Provider value={focus}>
      <ValuesContext.Provider value={values}>
        <Split
          name="outline"
          left={
            <section className="flex min-h-0 flex-col border-r border-rule" aria-label="Outline">
              <BenchHead
                workflow={workflow}
                far={{ samples: samples?.length ?? 0, rehearsed: seen !== undefined }}
                onEdit={bench.edit}
              />
              <div className="min-h-0 flex-1 overflow-auto pb-4">
                {bench.asText ? (
                  <Suspense fallback={<Waiting what="Opening the text" />}>
                    <TextView key={workflow.name} text={workflow.document} onChange={bench.typing.later} />
                  </Suspense>
                ) : (
                  <Outline
                    workflow={workflow}
                    rehearsal={seen}
                    chosen={chosen}
                    onChoose={bench.choose}
                    onEdit={bench.edit}
                    does={bench.lines}
                    item={item}
                    trigger={trigger}
                    row={seen?.rows[at.row] && rowWords(at.row + 1, seen.rows[at.row]?.label)}
                    turned={bench.turned}
                  />
                )}
              </div>
              <Look workflow={workflow} onChoose={bench.choose} />
            </section>
          }
          right={
            <section className="flex min-h-0 flex-col px-5 py-3" aria-label="Samples through the lines">
              <BenchBar workflow={workflow} bench={bench} line={line} />
              <Trouble error={draft.edit.error ?? draft.save.error ?? rehearse.error} />
              {!seen && !rehearse.isPending && (
                <Invitation workflow={workflow} samples={samples?.length ?? 0} />
              )}
              {seen && (
                <Sheet
                  seen={seen}
                  followed={bench.followed}
                  spot={spot}
                  onSpot={(s) => {
                    bench.act({ do: "choose", spot: s });
                  }}
                  chosen={chosen}
                  use={(p) => {
                    if (focus.current) focus.current(p);
                    else toast("Put the cursor into a setting first");
                  }}
                  before={itemBefore(seen, at.row, at.column)}
                  at={at}
                  again={() => {
                    bench.rehearse.to(undefined);
                  }}
                />
              )}
            </section>
          }
        />
        <Conflict overtaken={bench.overtaken} workflow={workflow} onSettle={bench.settle} />
      </ValuesContext.Provider>
    </Focus.Provider>
  );
}
