import { useMemo } from "react";
import type { Fields, Schemas } from "../../api/client";
import { useValues } from "../values";
import { fieldsOf } from "./paths";
import { suggestions } from "./suggest";

interface Props {
  wanted: Schemas["Property"][];
  values: Fields;
  onTake: (taken: { name: string; expression: string }[]) => void;
}

/** What the empty fields of a form could be filled in with, by name and type: one at a time, or all at once. */
export function Suggested({ wanted, values, onTake }: Props) {
  const known = useValues();
  const found = useMemo(
    () =>
      known
        ?.sources()
        .filter((s) => s.prefix === "item")
        .flatMap(fieldsOf) ?? [],
    [known],
  );
  const list = useMemo(() => suggestions(wanted, values, found), [wanted, values, found]);
  if (list.length === 0) return null;
  return (
    <div className="flex flex-wrap items-center gap-1.5" role="group" aria-label="Suggested">
      <span className="text-second">Fits by name:</span>
      {list.map((s) => (
        <button
          key={s.name}
          type="button"
          className="max-w-full truncate rounded-full border border-rule px-2.5 py-0.5 text-second hover:border-leaf hover:text-leafink"
          onClick={() => {
            onTake([s]);
          }}
        >
          {s.title} <span className="font-mono text-xs">{s.path}</span>
        </button>
      ))}
      {list.length > 1 && (
        <button
          type="button"
          className="text-leafink hover:underline"
          onClick={() => {
            onTake(list);
          }}
        >
          take all {list.length}
        </button>
      )}
    </div>
  );
}
