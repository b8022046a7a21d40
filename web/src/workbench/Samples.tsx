import { useState } from "react";
import { asFields, type Schemas } from "../api/client";
import { writeJson } from "../api/exact";
import { useSamples, useSampleChanges } from "../api/samples";
import { Trouble } from "../ui/parts";
import { when } from "../ui/words";
import { SampleText } from "./SampleText";
import { sampleRest } from "./sampleWords";

/** The samples of a workflow as rows with names: to take, write, edit, copy and remove. */
export function Samples({ workflow, called }: { workflow: string; called: boolean }) {
  const [editing, setEditing] = useState<string>(); // a sample's id, or "new"
  const [waiting, setWaiting] = useState(false);
  const samples = useSamples(workflow, waiting);
  const { add, change, remove, take } = useSampleChanges(workflow);
  const list = samples.data?.samples ?? [];
  const close = () => {
    setEditing(undefined);
  };
  return (
    <div>
      <span className="label">Samples</span>
      {list.map((s, i) =>
        editing === s.id ? (
          <SampleText
            key={s.id}
            label={`Sample ${String(i + 1)} as JSON`}
            first={writeJson(s.fields, 2)}
            one
            busy={change.isPending}
            onLeave={close}
            onKeep={([fields]) => {
              if (fields) change.mutate({ id: s.id, fields }, { onSuccess: close });
            }}
          />
        ) : (
          <SampleRow
            key={s.id}
            number={i + 1}
            sample={s}
            onEdit={() => {
              setEditing(s.id);
            }}
            onCopy={() => {
              add.mutate({ fields: asFields(s.fields), source: `copied from sample ${String(i + 1)}` });
            }}
            onRemove={() => {
              remove.mutate(s.id);
            }}
          />
        ),
      )}
      {list.length === 0 && (
        <div className="text-second">
          {called
            ? "None yet. Take one from a real call, or write one."
            : "None. A start without items gives the first line one empty item."}
        </div>
      )}
      <Arrived samples={samples.data} called={called} />
      <div className="mt-2 flex gap-2">
        {called && (
          <button
            type="button"
            className="btn"
            disabled={take.isPending}
            onClick={() => {
              setWaiting(true);
              take.mutate();
            }}
          >
            Take the next call
          </button>
        )}
        <button
          type="button"
          className="btn"
          onClick={() => {
            setEditing(editing === "new" ? undefined : "new");
          }}
        >
          Write one
        </button>
      </div>
      {editing === "new" && (
        <SampleText
          label="A sample as JSON"
          first=""
          busy={add.isPending}
          onLeave={close}
          onKeep={(items) => {
            void Promise.all(items.map((fields) => add.mutateAsync({ fields }))).then(close, () => undefined);
          }}
        />
      )}
      <Trouble error={take.error ?? add.error ?? change.error ?? remove.error} />
    </div>
  );
}

function SampleRow({
  number,
  sample,
  onEdit,
  onCopy,
  onRemove,
}: {
  number: number;
  sample: Schemas["Sample"];
  onEdit: () => void;
  onCopy: () => void;
  onRemove: () => void;
}) {
  const name = sample.label || "without a name";
  const acts: [string, () => void][] = [
    ["edit", onEdit],
    ["copy", onCopy],
    ["remove", onRemove],
  ];
  return (
    <div className="flex items-baseline gap-2 border-t border-rule py-1 first-of-type:border-0">
      <span className="w-5 text-right text-third tabular-nums">{number}</span>
      <span className="min-w-0 flex-1" title={`${sample.source}, ${when(sample.created)}`}>
        <span className="block truncate font-medium">{name}</span>
        <span className="block truncate text-xs text-second">
          {sampleRest(asFields(sample.fields), name)}
        </span>
      </span>
      {acts.map(([word, act]) => (
        <button
          key={word}
          type="button"
          className={`text-xs text-third hover:underline ${word === "remove" ? "hover:text-rust" : "hover:text-ink"}`}
          aria-label={`${word} sample ${String(number)}, ${name}`}
          onClick={act}
        >
          {word}
        </button>
      ))}
    </div>
  );
}

/** That the next call is waited for, and what was refused of late. */
function Arrived({ samples, called }: { samples: Schemas["Samples"] | undefined; called: boolean }) {
  const refused = samples?.arrived.filter((d) => d.verdict === "refused").slice(0, 3) ?? [];
  return (
    <>
      {samples?.taking && (
        <div className="mt-1.5 rounded-lg bg-ambertint px-3 py-2 text-amber" role="status">
          Waiting for the next call. It becomes a sample and starts nothing.
        </div>
      )}
      {refused.length > 0 && called && (
        <div className="mt-1.5 text-second">
          {refused.map((d) => (
            <div key={d.at}>
              {when(d.at)}: a call was refused, {d.reason}
            </div>
          ))}
        </div>
      )}
    </>
  );
}
