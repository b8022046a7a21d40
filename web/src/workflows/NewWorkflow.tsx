import { useNavigate } from "@tanstack/react-router";
import { Dialog } from "radix-ui";
import { useState, type FormEvent } from "react";
import { useKinds } from "../api/connectors";
import { useMakeWorkflow } from "../api/workflows";
import { Frame } from "../ui/Frame";
import { Trouble } from "../ui/parts";
import { useFirstFocus } from "../ui/useFirstFocus";
import { documentOf, slug } from "./document";

/** Makes a workflow: what it is called, and what starts it. */
export function NewWorkflow() {
  const focus = useFirstFocus<HTMLInputElement>();
  const kinds = useKinds();
  const navigate = useNavigate();
  const [open, setOpen] = useState(false);
  const [title, setTitle] = useState("");
  const [chosen, setTrigger] = useState<string>();
  const trigger = chosen ?? kinds.data?.triggers[0]?.type ?? "";
  const make = useMakeWorkflow();
  const submit = (e: FormEvent) => {
    e.preventDefault();
    make.mutate(documentOf(title, trigger, []), {
      onSuccess: (w) => {
        setOpen(false);
        void navigate({ to: "/workflows/$workflow", params: { workflow: w.name } });
      },
    });
  };
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger className="btn btn-main">New workflow</Dialog.Trigger>
      <Frame title="What should happen?">
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
            <button className="btn btn-main" disabled={make.isPending || !slug(title) || !trigger}>
              Make it
            </button>
          </div>
        </form>
      </Frame>
    </Dialog.Root>
  );
}
