import type { Schemas } from "../api/client";
import type { RunFilter } from "../api/runs";
import { fateWords } from "../lattice/shape";

const states: Schemas["RunState"][] = [
  "running",
  "queued",
  "waiting",
  "succeeded",
  "partial",
  "failed",
  "cancelled",
];
const fates = ["set_aside", "stopped", "may_have_been_sent", "held_back", "gave_nothing"] as const;

interface Props {
  filter: RunFilter;
  workflows: { name: string; title: string }[];
  onChange: (f: RunFilter) => void;
}

/** What of the runs is looked at: of which workflow, in which state, with which fate among its items, and when. */
export function RunFilters({ filter, workflows, onChange }: Props) {
  const put = (more: Partial<RunFilter>) => {
    onChange(
      Object.fromEntries(
        Object.entries({ ...filter, ...more }).filter(([, v]) => v !== undefined && v !== ""),
      ) as RunFilter,
    );
  };
  return (
    <div className="flex flex-wrap items-center gap-2">
      <Select
        label="Workflow"
        width="w-48"
        value={filter.workflow}
        any="All workflows"
        list={workflows.map((w) => [w.name, w.title])}
        onSet={(workflow) => {
          put({ workflow: workflow ?? "" });
        }}
      />
      <Select
        label="State"
        width="w-32"
        value={filter.state}
        any="Any state"
        list={states.map((s) => [s, s])}
        onSet={(state) => {
          put({ state: state as RunFilter["state"] });
        }}
      />
      <Select
        label="Fate of an item"
        width="w-44"
        value={filter.fate}
        any="Any fate"
        list={fates.map((f) => [f, fateWords(f)])}
        onSet={(fate) => {
          put({ fate: fate as RunFilter["fate"] });
        }}
      />
      <Day
        label="From"
        value={filter.from}
        onSet={(from) => {
          put({ from: from ?? "" });
        }}
      />
      <Day
        label="To"
        value={filter.to}
        onSet={(to) => {
          put({ to: to ?? "" });
        }}
      />
    </div>
  );
}

function Select({
  label,
  width,
  value,
  any,
  list,
  onSet,
}: {
  label: string;
  width: string;
  value: string | undefined;
  any: string;
  list: [string, string][];
  onSet: (v: string | undefined) => void;
}) {
  return (
    <select
      aria-label={label}
      className={`field ${width}`}
      value={value ?? ""}
      onChange={(e) => {
        onSet(e.target.value || undefined);
      }}
    >
      <option value="">{any}</option>
      {list.map(([v, words]) => (
        <option key={v} value={v}>
          {words}
        </option>
      ))}
    </select>
  );
}

/** A day by the reader's own clock. */
function Day({
  label,
  value,
  onSet,
}: {
  label: string;
  value: string | undefined;
  onSet: (v: string | undefined) => void;
}) {
  return (
    <label className="flex items-center gap-1.5 text-second">
      {label}
      <input
        type="date"
        className="field w-36"
        value={value ?? ""}
        onChange={(e) => {
          onSet(e.target.value || undefined);
        }}
      />
    </label>
  );
}
