import type { Column, Run } from "../api/client";

const WIDE = 100;

/** When the steps of a run called outside, and for how long. */
export function Waterfall({ run }: { run: Run }) {
  const list = run.columns.filter(
    (c): c is Column & { began: string; ended: string } => c.began !== undefined && c.ended !== undefined,
  );
  if (list.length === 0)
    return <div className="p-3.5 text-second">No step of this run has called anything.</div>;
  const from = Math.min(...list.map((c) => Date.parse(c.began)), Date.parse(run.run.accepted));
  const to = Math.max(...list.map((c) => Date.parse(c.ended)), from + 1);
  const at = (iso: string) => ((Date.parse(iso) - from) / (to - from)) * WIDE;
  return (
    <table className="w-full table-fixed" aria-label="When the steps called outside">
      <tbody>
        {list.map((c) => (
          <tr key={c.name} className="border-b border-rule/70 last:border-0">
            <th
              scope="row"
              className="w-[30%] truncate px-3.5 py-1.5 text-left font-normal"
              title={c.sentence}
            >
              {c.line} {c.sentence}
            </th>
            <td className="py-1.5">
              <div className="relative h-3">
                <span
                  className="absolute h-3 rounded-sm bg-leaf/70"
                  style={{
                    left: `${String(at(c.began))}%`,
                    width: `${String(Math.max(0.4, at(c.ended) - at(c.began)))}%`,
                  }}
                />
              </div>
            </td>
            <td className="w-[22%] px-3.5 text-right text-xs text-second">
              {span(Date.parse(c.ended) - Date.parse(c.began))}, {c.calls.toLocaleString("en")}{" "}
              {c.calls === 1 ? "call" : "calls"} of {span(c.millis / Math.max(1, c.calls))}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

export function span(ms: number): string {
  if (ms < 1000) return `${String(Math.round(ms))} ms`;
  if (ms < 60_000) return `${(ms / 1000).toFixed(1)} s`;
  if (ms < 3_600_000) return `${String(Math.round(ms / 60_000))} min`;
  return `${(ms / 3_600_000).toFixed(1)} h`;
}
