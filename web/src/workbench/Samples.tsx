import { useState } from "react";
import { asFields, type Rehearsal } from "../api/client";
import { writeJson } from "../api/exact";
import { useSamples, useSampleChanges } from "../api/samples";
import { Trouble } from "../ui/parts";
import { Arrived } from "./samples/Arrived";
import { TakeNext } from "./samples/TakeNext";
import { FromRun } from "./samples/FromRun";
import { Profile } from "./samples/Profile";
import { SampleRow } from "./samples/SampleRow";
import { outcomeOf } from "./samples/outcome";
import { SampleText } from "./SampleText";

/** What is written of a sample: its fields, or what should become of it. */
interface Writing {
  id: string; // "new" for one that is added
  what: "fields" | "expected";
}

/** The samples of a workflow as rows with names: to take, write, edit, copy and remove, with what should become of each. */
export function Samples({
  workflow,
  title = workflow,
  live = false,
  called,
  hosted = false,
  timed = false,
  seen,
}: {
  workflow: string;
  title?: string;
  live?: boolean; // what arrives starts runs too
  called: boolean;
  hosted?: boolean; // by a page of ours
  timed?: boolean; // it starts by the clock
  seen?: Rehearsal | undefined; // how they go through the lines
}) {
  const [writing, setWriting] = useState<Writing>();
  const [waiting, setWaiting] = useState(false);
  const samples = useSamples(workflow, waiting);
  const { add, change, expect, remove, take } = useSampleChanges(workflow);
  const list = samples.data?.samples ?? [];
  const close = () => {
    setWriting(undefined);
  };
  return (
    <div>
      <span className="label">Samples</span>
      {list.map((s, i) =>
        writing?.id === s.id ? (
          <SampleText
            key={`${s.id} ${writing.what}`}
            label={
              writing.what === "fields"
                ? `Sample ${String(i + 1)} as JSON`
                : `What should become of sample ${String(i + 1)}, as JSON`
            }
            first={writeJson(writing.what === "fields" ? s.fields : (s.expected ?? outcomeOf(seen, i)), 2)}
            one
            busy={change.isPending || expect.isPending}
            onLeave={close}
            onKeep={([fields]) => {
              if (!fields) return;
              if (writing.what === "fields") change.mutate({ id: s.id, fields }, { onSuccess: close });
              else expect.mutate({ id: s.id, expected: fields }, { onSuccess: close });
            }}
          />
        ) : (
          <SampleRow
            key={s.id}
            number={i + 1}
            sample={s}
            result={seen?.expected?.find((e) => e.sample === i + 1)}
            onEdit={() => {
              setWriting({ id: s.id, what: "fields" });
            }}
            onExpect={() => {
              setWriting({ id: s.id, what: "expected" });
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
            ? `None yet. Take one from a real ${hosted ? "form" : "call"}, or write one.`
            : timed
              ? "None are needed: each start gives the first line one item, with the time at which it is due and the time before."
              : "None. A start without items gives the first line one empty item."}
        </div>
      )}
      {called && (
        <Arrived samples={samples.data} workflow={workflow} title={title} live={live} hosted={hosted} />
      )}
      <div className="mt-2 flex flex-wrap gap-2">
        {called && (
          <TakeNext
            what={hosted ? "form" : "call"}
            busy={take.isPending}
            onTake={(personal) => {
              setWaiting(true);
              take.mutate(personal);
            }}
          />
        )}
        <button
          type="button"
          className="btn"
          onClick={() => {
            setWriting(writing?.id === "new" ? undefined : { id: "new", what: "fields" });
          }}
        >
          Write one
        </button>
        <FromRun workflow={workflow} />
      </div>
      {writing?.id === "new" && (
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
      {list.length > 0 && <Profile workflow={workflow} samples={list} />}
      <Trouble error={take.error ?? add.error ?? change.error ?? expect.error ?? remove.error} />
    </div>
  );
}
