import type { Schemas } from "../../api/client";
import { useStarts } from "../../run/useStarts";
import { when } from "../../ui/words";

const words: Record<Schemas["Delivery"]["verdict"], string> = {
  answered: "A call was answered",
  duplicate: "A call was known",
  kept: "A call was kept",
  refused: "A call was refused",
  sample: "A call became a sample",
};

/** That the next call is waited for, what arrived of late and started nothing, and what to try. */
export function Arrived({
  samples,
  workflow,
  title,
  live,
  hosted = false,
}: {
  samples: Schemas["Samples"] | undefined;
  workflow: string;
  title: string;
  live: boolean;
  hosted?: boolean;
}) {
  const start = useStarts(workflow, title);
  const list = samples?.arrived.slice(0, 4) ?? [];
  return (
    <>
      {samples?.taking && (
        <div className="mt-1.5 rounded-lg bg-ambertint px-3 py-2 text-amber" role="status">
          Waiting for the next {hosted ? "form" : "call"}. It becomes a sample
          {live ? ", and its run starts as well." : " and starts nothing."}
          <div className="mt-1">
            {hosted
              ? "Open the form at the address above, fill it in and send it."
              : "Nothing comes? Send a test call above. If that arrives, the other side calls another address, or does not call. What is refused is told here, with the reason."}
          </div>
        </div>
      )}
      {list.length > 0 && (
        <ul className="mt-1.5 space-y-1 text-second" aria-label="What arrived">
          {list.map((d) => (
            <li key={d.id} className="flex items-baseline gap-2">
              <span className="min-w-0 flex-1">
                {when(d.at)}: {words[d.verdict]}
                {d.reason && <>, {d.reason}</>}
              </span>
              {d.startable && live && (
                <button
                  type="button"
                  className="shrink-0 hover:text-ink hover:underline"
                  disabled={start.busy}
                  onClick={() => {
                    start.begin({ delivery: d.id });
                  }}
                >
                  Start with it
                </button>
              )}
            </li>
          ))}
        </ul>
      )}
      {start.error && <p className="text-amber">{start.error.message}</p>}
      {start.asks}
    </>
  );
}
