import { Trouble } from "../ui/parts";
import { plural } from "../ui/words";
import { moves, useMend, type Mending } from "../api/mending";

/** How far a mending is; it can be ended half-way. */
export function Progress({ mending: m, onClose }: { mending: Mending | undefined; onClose?: () => void }) {
  const { cancel } = useMend();
  if (!m) return <div className="text-second">Beginning…</div>;
  const share = m.items === 0 ? 1 : Math.min(1, m.begun / m.items);
  return (
    <div className="space-y-3">
      <div
        role="progressbar"
        aria-label="How far it is"
        aria-valuemin={0}
        aria-valuemax={m.items}
        aria-valuenow={m.begun}
        className="h-2.5 overflow-hidden rounded-full bg-rule"
      >
        <div className="h-full bg-leaf" style={{ width: `${String(share * 100)}%` }} />
      </div>
      <p role="status">{words(m)}</p>
      {m.refused.length > 0 && (
        <ul className="text-rust">
          {m.refused.slice(0, 8).map((r) => (
            <li key={r.run}>
              Run {r.run.slice(0, 8)}: {r.message}
            </li>
          ))}
        </ul>
      )}
      <Trouble error={cancel.error} />
      <div className="flex justify-end gap-2">
        {moves(m) && (
          <button
            className="btn"
            disabled={m.state === "cancelling" || cancel.isPending}
            onClick={() => {
              cancel.mutate(m.id);
            }}
          >
            {m.state === "cancelling" ? "Ending…" : "End it half-way"}
          </button>
        )}
        {onClose && (
          <button className="btn" onClick={onClose}>
            {moves(m) ? "Let it go on" : "Close"}
          </button>
        )}
      </div>
    </div>
  );
}

function words(m: Mending): string {
  const of = `${m.begun.toLocaleString("en")} of ${plural(m.items, "item")}`;
  switch (m.state) {
    case "going":
      return `${of}. It goes on when this is closed.`;
    case "cancelling":
      return `${of}. What has begun goes on to its end; the others stay as they were.`;
    case "cancelled":
      return `Ended half-way: ${plural(m.done, "item")} went on, ${m.again.toLocaleString("en")} still waiting.`;
    default:
      return `${plural(m.done, "item")} went on${m.again > 0 ? `, ${m.again.toLocaleString("en")} still waiting` : ""}.`;
  }
}
