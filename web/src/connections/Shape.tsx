import { Dialog } from "radix-ui";
import { useState } from "react";
import { toast } from "sonner";
import type { Connection, Schemas } from "../api/client";
import { useConnectionChanges } from "../api/connections";
import { Frame } from "../ui/Frame";
import { Trouble } from "../ui/parts";

/** Its limits, and who may build with it. */
export function Shape({ c }: { c: Connection }) {
  const [open, setOpen] = useState(false);
  const [calls, setCalls] = useState(String(c.limits?.calls ?? ""));
  const [seconds, setSeconds] = useState(String(c.limits?.seconds ?? 1));
  const [parallel, setParallel] = useState(String(c.limits?.parallel ?? ""));
  const [everyone, setEveryone] = useState(c.everyone);
  const [people, setPeople] = useState(c.grants.map((g) => g.email).join("\n"));
  const { set: save } = useConnectionChanges(c.name);
  const wanted = (): Schemas["ConnectionSettings"] => ({
    everyone,
    ...(calls || parallel
      ? {
          limits: {
            calls: Number(calls || 0),
            seconds: Number(seconds || 1),
            parallel: Number(parallel || 0),
          },
        }
      : {}),
    grants: everyone
      ? []
      : people
          .split(/[\s,]+/)
          .filter(Boolean)
          .map((email) => {
            const actions = c.grants.find((g) => g.email === email)?.actions;
            return actions ? { email, actions } : { email };
          }),
  });
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger className="btn">Limits and builders</Dialog.Trigger>
      <Frame title={`${c.name}: limits and builders`}>
        <form
          onSubmit={(e) => {
            e.preventDefault();
            save.mutate(wanted(), {
              onSuccess: () => {
                toast(`Changed ${c.name}`);
                setOpen(false);
              },
            });
          }}
        >
          <div className="mb-1 grid grid-cols-3 gap-3">
            <Amount id="limit-calls" label="Calls" value={calls} onSet={setCalls} />
            <Amount id="limit-seconds" label="in seconds" least={0.1} value={seconds} onSet={setSeconds} />
            <Amount id="limit-parallel" label="At once" value={parallel} onSet={setParallel} />
          </div>
          <div className="hint mb-4">Kept over all machines. Empty: as the connector says.</div>
          <label className="mb-2 flex items-center gap-2">
            <input
              type="checkbox"
              className="accent-leaf"
              checked={everyone}
              onChange={(e) => {
                setEveryone(e.target.checked);
              }}
            />
            Every builder may use it
          </label>
          {!everyone && (
            <div className="mb-3">
              <label className="label" htmlFor="grants">
                Besides administrators, these people
              </label>
              <textarea
                id="grants"
                className="field h-20 py-1.5"
                placeholder="one address of mail on a line"
                value={people}
                onChange={(e) => {
                  setPeople(e.target.value);
                }}
              />
            </div>
          )}
          <Trouble error={save.error} />
          <div className="flex justify-end gap-2">
            <Dialog.Close className="btn">Not now</Dialog.Close>
            <button className="btn btn-main" disabled={save.isPending}>
              Change it
            </button>
          </div>
        </form>
      </Frame>
    </Dialog.Root>
  );
}

function Amount({
  id,
  label,
  value,
  least = 0,
  onSet,
}: {
  id: string;
  label: string;
  value: string;
  least?: number;
  onSet: (v: string) => void;
}) {
  return (
    <div>
      <label className="label" htmlFor={id}>
        {label}
      </label>
      <input
        id={id}
        className="field"
        type="number"
        min={least}
        step={least > 0 ? "any" : 1}
        value={value}
        onChange={(e) => {
          onSet(e.target.value);
        }}
      />
    </div>
  );
}
