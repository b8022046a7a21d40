import { useState } from "react";
import { asFields, type Json, type Kind, type Line } from "../api/client";
import type { Edit } from "../api/draft";
import { Options } from "./Options";

interface Props {
  line: Line;
  kind: Kind | undefined;
  writes: boolean;
  fallback: boolean; // it has one already
  set: (key: string, value: Json) => void;
  onEdit: (edits: Edit[]) => void;
}

/** What every line has: its name, whether it is on, and what is seldom needed. */
export function LineFoot({ line, kind, writes, fallback, set, onEdit }: Props) {
  const options = asFields(line.options);
  const [more, setMore] = useState(Object.keys(options).length > 0);
  return (
    <>
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2 text-second">
        <Name line={line} onEdit={onEdit} />
        <button
          type="button"
          className="hover:text-ink hover:underline"
          aria-expanded={more}
          onClick={() => {
            setMore(!more);
          }}
        >
          {more ? "Less" : "More…"}
        </button>
        <button
          type="button"
          className="hover:text-ink hover:underline"
          onClick={() => {
            set("off", line.off ? null : true);
          }}
        >
          {line.off ? "Switch on" : "Switch off"}
        </button>
      </div>
      {more && (
        <Options
          line={line}
          options={options}
          set={set}
          kind={kind}
          writes={writes}
          fallback={fallback}
          onEdit={onEdit}
        />
      )}
    </>
  );
}

function Name({ line, onEdit }: { line: Line; onEdit: (edits: Edit[]) => void }) {
  const [name, setName] = useState(line.name);
  return (
    <label className="flex items-center gap-1.5">
      Name
      <input
        className="h-7 w-28 rounded-md border border-rule bg-sheet px-1.5 text-ink"
        value={name}
        onChange={(e) => {
          setName(e.target.value);
        }}
        onBlur={() => {
          if (name !== line.name) onEdit([{ op: "rename", step: line.name, value: name }]);
        }}
        onKeyDown={(e) => {
          if (e.key === "Enter") e.currentTarget.blur();
        }}
      />
    </label>
  );
}
