import { asFields, type Cell, type Fields } from "../api/client";
import { Guarded } from "../connect/Guarded";
import { FieldList } from "../lattice/FieldList";
import { fateWords } from "../lattice/shape";
import { Changes } from "../run/Changes";

/** What became of the chosen row at its line: the request that would go out, or what changed. */
export function CellBeside({
  cell,
  before,
  again,
}: {
  cell: Cell;
  before: Fields | undefined;
  again: () => void; // it is rehearsed once more
}) {
  return (
    <div className="min-w-0 flex-1">
      <h2 className="mb-1.5 text-xs font-semibold text-second">
        {fateWords(cell.fate)}
        {cell.text ? `: ${cell.text}` : ""}
      </h2>
      {cell.sent?.guarded && <Guarded address={cell.sent.guarded} then="rehearse again" onAllowed={again} />}
      {cell.simulated && (
        <div className="mb-1.5 text-xs text-second">
          ≈ Nothing was sent, so what came back is a sample answer
          {cell.sent?.prepared ? "" : " of a line above"}; the real one will differ.
        </div>
      )}
      {cell.sent?.prepared ? (
        <pre className="overflow-auto rounded-lg bg-paper p-2 font-mono text-xs whitespace-pre-wrap">
          {cell.sent.method} {cell.sent.url}
          {"\n\n"}
          {cell.sent.body}
        </pre>
      ) : (
        cell.fields !== undefined &&
        (before ? (
          <Changes before={before} after={asFields(cell.fields)} />
        ) : (
          <FieldList fields={asFields(cell.fields)} />
        ))
      )}
    </div>
  );
}
