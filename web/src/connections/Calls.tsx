import type { Connection } from "../api/client";
import { useCalls } from "../api/connections";
import { when } from "../ui/words";

/** The last calls of a connection. */
export function Calls({ c }: { c: Connection }) {
  const calls = useCalls(c.name);
  const list = calls.data?.calls ?? [];
  return (
    <div>
      <h3 className="mb-1.5 font-semibold">Last calls</h3>
      {calls.data && list.length === 0 && <div className="text-second">Nothing was called yet.</div>}
      {list.length > 0 && (
        <table className="w-full table-fixed">
          <tbody>
            {list.slice(0, 12).map((k, i) => (
              <tr key={i} className="border-t border-rule align-top">
                <td className="w-[84px] py-1 text-second whitespace-nowrap">{when(k.at)}</td>
                <td className="py-1 pr-2">
                  <div className="truncate font-mono text-xs" title={k.address}>
                    {k.method} {k.address.replace(c.pin, "")}
                  </div>
                  {k.failure && <div className="text-rust">{k.failure}</div>}
                </td>
                <td className={`w-10 py-1 text-right ${k.status >= 400 ? "text-rust" : "text-second"}`}>
                  {k.status > 0 ? k.status : ""}
                </td>
                <td className="w-16 py-1 text-right text-second whitespace-nowrap">
                  {Math.max(1, k.took_ms)} ms
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </div>
  );
}
