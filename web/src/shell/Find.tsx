import { useNavigate } from "@tanstack/react-router";
import { Command } from "cmdk";
import { Dialog } from "radix-ui";
import { useConnections } from "../api/connections";
import { useRuns } from "../api/runs";
import { useWorkflows } from "../api/workflows";
import { when } from "../ui/words";
import { useFirstFocus } from "../ui/useFirstFocus";

/** Ctrl+K: workflows, runs, connections and pages by a few letters. */
export function Find({ open, onOpen }: { open: boolean; onOpen: (open: boolean) => void }) {
  return (
    <Dialog.Root open={open} onOpenChange={onOpen}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 bg-black/20" />
        <Dialog.Content
          className="card fixed top-[12vh] left-1/2 z-50 w-[560px] max-w-[94vw] -translate-x-1/2 overflow-hidden shadow-xl"
          aria-describedby={undefined}
        >
          <Dialog.Title className="sr-only">Find</Dialog.Title>
          {open && (
            <Choices
              close={() => {
                onOpen(false);
              }}
            />
          )}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

const row = "flex cursor-pointer items-baseline gap-2 rounded-md px-3 py-1.5 data-[selected=true]:bg-tint";

function Choices({ close }: { close: () => void }) {
  const focus = useFirstFocus<HTMLInputElement>();
  const navigate = useNavigate();
  const workflows = useWorkflows();
  const runs = useRuns({});
  const connections = useConnections();
  const go = (to: string) => {
    close();
    void navigate({ to });
  };
  return (
    <Command label="Find">
      <Command.Input
        ref={focus}
        placeholder="A workflow, a run's label, a connection…"
        className="h-11 w-full border-b border-rule bg-transparent px-4 outline-none"
      />
      <Command.List className="max-h-[50vh] overflow-auto p-2">
        <Command.Empty className="p-4 text-second">Nothing is called so.</Command.Empty>
        <Command.Group heading={<div className="px-3 py-1 text-xs text-second">Workflows</div>}>
          {workflows.data?.workflows.map((w) => (
            <Command.Item
              key={w.name}
              value={`${w.title} ${w.name}`}
              className={row}
              onSelect={() => {
                go(`/workflows/${w.name}`);
              }}
            >
              {w.title}
              <span className="text-xs text-third">{w.name}</span>
            </Command.Item>
          ))}
        </Command.Group>
        <Command.Group heading={<div className="px-3 py-1 text-xs text-second">Runs</div>}>
          {runs.data?.runs.slice(0, 30).map((r) => (
            <Command.Item
              key={r.id}
              value={`${r.label} ${r.title} ${r.id}`}
              className={row}
              onSelect={() => {
                go(`/runs/${r.id}`);
              }}
            >
              {r.label || r.title}
              <span className="text-xs text-third">
                {r.title}, {when(r.accepted)}, {r.state}
              </span>
            </Command.Item>
          ))}
        </Command.Group>
        <Command.Group heading={<div className="px-3 py-1 text-xs text-second">Connections</div>}>
          {connections.data?.connections.map((c) => (
            <Command.Item
              key={c.name}
              value={`${c.name} ${c.connector_title}`}
              className={row}
              onSelect={() => {
                close();
                void navigate({ to: "/connections", search: { connection: c.name } });
              }}
            >
              {c.name}
              <span className="text-xs text-third">{c.connector_title}</span>
            </Command.Item>
          ))}
        </Command.Group>
      </Command.List>
    </Command>
  );
}
