import { Dialog } from "radix-ui";
import { useState } from "react";
import type { Fields, Json } from "../api/client";
import { exactNumber, readJson, writeJson } from "../api/exact";
import { Frame } from "../ui/Frame";
import { Trouble } from "../ui/parts";
import { Progress } from "./Progress";
import { useMend, useMending } from "../api/mending";

/** Gives an item other fields, as it comes to the step where it stands, and tries it again. */
export function EditItem({ run, address, fields }: { run: string; address: string; fields: Fields }) {
  const [open, setOpen] = useState(false);
  const [values, setValues] = useState<Record<string, string>>({});
  const [id, setId] = useState<string>();
  const { begin } = useMend();
  const mending = useMending(id);
  const close = (to: boolean) => {
    setOpen(to);
    setId(undefined);
    setValues({});
    begin.reset();
  };
  const names = Object.keys(fields).sort();
  const changed = names.filter((n) => values[n] !== undefined && values[n] !== asText(fields[n]));
  const wrong = changed.filter((n) => fromText(values[n] ?? "", fields[n]) === undefined);
  const send = () => {
    const set: Fields = {}; // what is not changed stays to the last digit
    for (const n of changed) set[n] = fromText(values[n] ?? "", fields[n]) ?? null;
    begin.mutate(
      { what: "retry", items: [{ run, address, set }] },
      {
        onSuccess: (m) => {
          setId(m.id);
        },
      },
    );
  };
  return (
    <Dialog.Root open={open} onOpenChange={close}>
      <Dialog.Trigger className="btn btn-main">Edit and retry</Dialog.Trigger>
      <Frame title="Edit and retry">
        {id !== undefined ? (
          <Progress
            mending={mending.data}
            onClose={() => {
              close(false);
            }}
          />
        ) : (
          <form
            className="space-y-3"
            onSubmit={(e) => {
              e.preventDefault();
              send();
            }}
          >
            <p className="text-second">
              The item goes on from where it stands with these fields; nothing before that is done again.
            </p>
            {names.map((n) => (
              <label key={n} className="block">
                <span className="label">{n}</span>
                {long(fields[n]) ? (
                  <textarea
                    className="field h-24 py-1.5 font-mono text-xs"
                    value={values[n] ?? asText(fields[n])}
                    onChange={(e) => {
                      setValues({ ...values, [n]: e.target.value });
                    }}
                  />
                ) : (
                  <input
                    className="field"
                    value={values[n] ?? asText(fields[n])}
                    onChange={(e) => {
                      setValues({ ...values, [n]: e.target.value });
                    }}
                  />
                )}
                {wrong.includes(n) && <span className="mt-1 block text-rust">{needs(fields[n])}</span>}
              </label>
            ))}
            <Trouble error={begin.error} />
            <div className="flex justify-end gap-2">
              <Dialog.Close className="btn" type="button">
                Leave it
              </Dialog.Close>
              <button
                className="btn btn-main"
                disabled={begin.isPending || wrong.length > 0 || changed.length === 0}
              >
                {changed.length === 0 ? "Nothing is changed yet" : "Retry with these"}
              </button>
            </div>
          </form>
        )}
      </Frame>
    </Dialog.Root>
  );
}

const deep = (v: Json | undefined) => v !== null && typeof v === "object";
const long = (v: Json | undefined) => deep(v) || (typeof v === "string" && v.length > 80);

/** A value as one types it: text as it is, other kinds as JSON. */
export const asText = (v: Json | undefined): string =>
  typeof v === "string" ? v : v === null || v === undefined ? "" : deep(v) ? writeJson(v, 2) : String(v);

/** What was typed, in the kind that the value had; undefined where it cannot be that. */
export function fromText(text: string, was: Json | undefined): Json | undefined {
  if (typeof was === "string") return text;
  if (was === null || was === undefined) return text === "" ? null : text;
  if (typeof was === "number" || typeof was === "bigint")
    return text.trim() !== "" && Number.isFinite(Number(text)) ? exactNumber(text.trim()) : undefined;
  if (typeof was === "boolean") return text === "true" ? true : text === "false" ? false : undefined;
  try {
    return readJson(text);
  } catch {
    return undefined;
  }
}

function needs(was: Json | undefined): string {
  if (typeof was === "number" || typeof was === "bigint") return "This was a number; write one.";
  if (typeof was === "boolean") return "This was yes or no; write true or false.";
  return "This is no JSON yet; look at its brackets and commas.";
}
