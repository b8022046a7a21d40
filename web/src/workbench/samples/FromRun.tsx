import { DropdownMenu } from "radix-ui";
import { useState } from "react";
import { toast } from "sonner";
import { useKeepStart, useRuns } from "../../api/runs";
import { Trouble } from "../../ui/parts";
import { stateWords, when } from "../../ui/words";

/** Takes what a past run began with as a sample. */
export function FromRun({ workflow }: { workflow: string }) {
  const [open, setOpen] = useState(false);
  const keep = useKeepStart(workflow);
  return (
    <>
      <DropdownMenu.Root open={open} onOpenChange={setOpen}>
        <DropdownMenu.Trigger className="btn">From a run</DropdownMenu.Trigger>
        <DropdownMenu.Portal>
          <DropdownMenu.Content
            align="start"
            sideOffset={4}
            className="card z-50 max-h-80 w-80 overflow-auto p-1.5 shadow-xl"
            aria-label="Runs of this workflow"
          >
            <Choices
              workflow={workflow}
              onChoose={(run) => {
                keep.mutate(run, { onSuccess: () => toast("Kept as a sample of the workflow") });
              }}
            />
          </DropdownMenu.Content>
        </DropdownMenu.Portal>
      </DropdownMenu.Root>
      <Trouble error={keep.error} />
    </>
  );
}

function Choices({ workflow, onChoose }: { workflow: string; onChoose: (run: string) => void }) {
  const runs = useRuns({ workflow });
  const list = runs.data?.runs.slice(0, 20) ?? [];
  if (runs.data && list.length === 0)
    return <div className="px-2.5 py-1.5 text-second">It has not run yet.</div>;
  return list.map((r) => (
    <DropdownMenu.Item
      key={r.id}
      className="cursor-pointer rounded-md px-2.5 py-1.5 data-[highlighted]:bg-tint"
      onSelect={() => {
        onChoose(r.id);
      }}
    >
      <div className="truncate font-medium">{r.label || r.title}</div>
      <div className="text-xs text-second">
        {when(r.accepted)} · {stateWords(r).words}
      </div>
    </DropdownMenu.Item>
  ));
}
