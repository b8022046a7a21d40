import type { Rehearsal } from "../api/client";

/** All requests that were prepared. */
export function Requests({ seen }: { seen: Rehearsal }) {
  return (
    <div className="mt-2 space-y-2">
      {seen.rows.flatMap((r) =>
        r.cells.map((c, i) =>
          c.sent?.prepared ? (
            <div key={`${r.address}-${String(i)}`}>
              <div className="text-xs text-second">
                row {r.row}, {seen.columns[i]?.sentence}
              </div>
              <pre className="overflow-auto rounded-lg bg-paper p-2 font-mono text-xs whitespace-pre-wrap">
                {c.sent.method} {c.sent.url}
                {"\n"}
                {c.sent.body}
              </pre>
            </div>
          ) : null,
        ),
      )}
    </div>
  );
}
