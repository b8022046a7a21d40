import { useWorkflows } from "../api/workflows";
import { Trouble, Waiting } from "../ui/parts";
import { FirstVisit } from "../workflows/FirstVisit";
import { Line } from "../workflows/Line";
import { NewWorkflow } from "../workflows/NewWorkflow";

export function Workflows() {
  const list = useWorkflows();
  return (
    <div className="mx-auto max-w-[1240px] px-5 py-4">
      <div className="mb-3 flex items-center justify-between">
        <h1>Workflows</h1>
        <NewWorkflow />
      </div>
      <Trouble error={list.error} />
      {list.isPending && <Waiting what="Reading the workflows" />}
      {list.data?.workflows.length === 0 && <FirstVisit />}
      {list.data && list.data.workflows.length > 0 && (
        <div className="card overflow-hidden">
          <table className="w-full">
            <thead>
              <tr className="border-b border-rule text-left text-xs text-second">
                <th className="px-4 py-2 font-medium">Workflow</th>
                <th className="px-3 font-medium">State</th>
                <th className="px-3 font-medium">Starts</th>
                <th className="px-3 font-medium">Last run</th>
              </tr>
            </thead>
            <tbody>
              {list.data.workflows.map((w) => (
                <Line key={w.name} w={w} />
              ))}
            </tbody>
          </table>
        </div>
      )}
    </div>
  );
}
