import type { Fields } from "../api/client";
import { useEvaluated } from "../api/expressions";

/** What the expression gives for the chosen row. */
export function Evaluated({
  source,
  template,
  item,
  trigger,
  row,
}: {
  source: string;
  template: boolean;
  item: Fields | undefined;
  trigger: Fields | undefined;
  row: string | undefined;
}) {
  const holds = source !== "" && (!template || source.includes("(="));
  const tried = useEvaluated(source, template, item, trigger, holds && item !== undefined);
  if (!holds) return null;
  if (!item) return <div className="hint mt-1">Rehearse to see its value here.</div>;
  const v = tried.data;
  if (!v) return <div className="hint mt-1">&nbsp;</div>;
  if (v.unknown !== undefined)
    return (
      <div className="hint mt-1">
        Its value is seen when the workflow is rehearsed: {v.unknown} is not known here.
      </div>
    );
  if (v.error)
    return (
      <div className="mt-1 text-rust">
        {v.error}
        {v.position !== undefined && <span className="text-second"> (character {v.position + 1})</span>}
      </div>
    );
  return (
    <div className="hint mt-1 truncate">
      {row ? `${row}: ` : ""}
      {v.why ? (
        <span className="font-semibold text-rust">{v.why}</span>
      ) : (
        <span className="font-medium text-ink">{v.text}</span>
      )}
    </div>
  );
}
