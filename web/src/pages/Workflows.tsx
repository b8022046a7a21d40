import { Link, useNavigate } from "@tanstack/react-router";
import { Dialog } from "radix-ui";
import { useState, type FormEvent } from "react";
import { type Schemas } from "../api/client";
import { useKinds } from "../api/connectors";
import { useWorkflows, useMakeWorkflow } from "../api/workflows";
import { Badge, Trouble, Waiting } from "../ui/parts";
import { plural, stateWords, when } from "../ui/words";
import { useFirstFocus } from "../ui/useFirstFocus";

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

/** The doors of a workspace in which nothing happens yet. */
function FirstVisit() {
  return (
    <div>
      <p className="mb-3 font-serif text-[15.5px]">What should happen?</p>
      <div className="grid gap-3 md:grid-cols-2">
        <Link to="/start" className="card p-5 hover:border-leaf hover:bg-tint">
          <span className="font-serif text-[16px] font-semibold">I have a key</span>
          <br />
          <span className="text-second">
            Find the application, store the key, and see real rows of it in a minute.
          </span>
        </Link>
        <div className="card p-5">
          <span className="font-serif text-[16px] font-semibold">Something calls me</span>
          <br />
          <span className="text-second">
            Make a workflow that is called at an address of its own, and catch a sample of what arrives: New
            workflow, above.
          </span>
        </div>
      </div>
    </div>
  );
}

function Line({ w }: { w: Schemas["WorkflowSummary"] }) {
  const last = w.last && stateWords(w.last);
  return (
    <tr className="border-b border-rule last:border-0 hover:bg-tint/60">
      <td className="px-4 py-2.5">
        <Link
          to="/workflows/$workflow"
          params={{ workflow: w.name }}
          className="font-serif text-[15.5px] font-semibold hover:underline"
        >
          {w.title}
        </Link>
        <div className="text-xs text-third">
          {w.name}, {plural(w.steps ?? 0, "step")}
          {w.errors ? `, ${plural(w.errors, "thing")} to mend` : ""}
        </div>
      </td>
      <td className="px-3">
        <Badge tone={w.state === "live" ? "leaf" : "plain"}>
          {w.state === "live"
            ? `Live, revision ${String(w.live)}`
            : w.state === "paused"
              ? "Paused"
              : "Draft"}
        </Badge>
      </td>
      <td className="px-3 text-second">{w.trigger}</td>
      <td className="px-3">
        {w.last && last ? (
          <Link to="/runs/$run" params={{ run: w.last.id }} className="hover:underline">
            <Badge tone={last.tone}>{last.words}</Badge>{" "}
            <span className="text-xs text-second">{when(w.last.accepted)}</span>
          </Link>
        ) : (
          <span className="text-third">never ran</span>
        )}
      </td>
    </tr>
  );
}

const slug = (title: string) =>
  title
    .toLowerCase()
    .normalize("NFKD")
    .replace(/[^a-z0-9]+/g, "-")
    .replace(/^[^a-z]+|-+$/g, "")
    .slice(0, 50);

function NewWorkflow() {
  const focus = useFirstFocus<HTMLInputElement>();
  const kinds = useKinds();
  const navigate = useNavigate();
  const [open, setOpen] = useState(false);
  const [title, setTitle] = useState("");
  const [trigger, setTrigger] = useState("webhook");
  const make = useMakeWorkflow();
  const submit = (e: FormEvent) => {
    e.preventDefault();
    make.mutate(
      `format: young-trellis/1\nname: ${slug(title)}\ntitle: ${JSON.stringify(title)}\ntrigger:\n  type: ${trigger}\nsteps: []\n`,
      {
        onSuccess: (w) => {
          setOpen(false);
          void navigate({ to: "/workflows/$workflow", params: { workflow: w.name } });
        },
      },
    );
  };
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger className="btn btn-main">New workflow</Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 bg-black/20" />
        <Dialog.Content
          className="card fixed top-[14vh] left-1/2 z-50 w-[460px] max-w-[94vw] -translate-x-1/2 p-6 shadow-xl"
          aria-describedby={undefined}
        >
          <Dialog.Title className="mb-4 font-serif text-[18px] font-semibold">
            What should happen?
          </Dialog.Title>
          <form onSubmit={submit}>
            <label className="label" htmlFor="title">
              In a few words
            </label>
            <input
              id="title"
              className="field mb-4"
              ref={focus}
              required
              maxLength={80}
              placeholder="Calls at the counter"
              value={title}
              onChange={(e) => {
                setTitle(e.target.value);
              }}
            />
            <fieldset className="mb-4">
              <legend className="label">What starts it?</legend>
              {kinds.data?.triggers.map((t) => (
                <label
                  key={t.type}
                  className={`mb-2 flex cursor-pointer gap-2.5 rounded-lg border p-2.5 ${trigger === t.type ? "border-leaf bg-tint" : "border-rule"}`}
                >
                  <input
                    type="radio"
                    name="trigger"
                    className="mt-1 accent-leaf"
                    checked={trigger === t.type}
                    onChange={() => {
                      setTrigger(t.type);
                    }}
                  />
                  <span>
                    <span className="font-medium">{t.title}</span>
                    <br />
                    <span className="hint">{t.help}</span>
                  </span>
                </label>
              ))}
            </fieldset>
            <Trouble error={make.error} />
            <div className="flex justify-end gap-2">
              <Dialog.Close className="btn">Not now</Dialog.Close>
              <button className="btn btn-main" disabled={make.isPending || !slug(title)}>
                Make it
              </button>
            </div>
          </form>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
