import { useState } from "react";
import type { Finding } from "../api/client";
import { Part } from "./parts";

/** What is to mend first, and what is ticked once it was looked at. */
export function ToLookAt({
  errors,
  warnings,
  onTicks,
}: {
  errors: Finding[];
  warnings: Finding[];
  onTicks: (n: number) => void;
}) {
  const [ticked, setTicked] = useState<number[]>([]);
  const together = warnings.length > 4;
  const tick = (i: number, on: boolean) => {
    const now = on ? [...ticked, i] : ticked.filter((x) => x !== i);
    setTicked(now);
    onTicks(now.length);
  };
  return (
    <>
      {errors.length > 0 && (
        <Part title="To mend first">
          {errors.map((p, i) => (
            <p key={i} className="text-rust">
              {p.message} {p.cure}
            </p>
          ))}
        </Part>
      )}
      {warnings.length > 0 && (
        <Part title="To look at">
          <ul className="space-y-1">
            {warnings.map((p, i) => (
              <li key={i}>
                {together ? (
                  <span className="text-amber">{words(p)}</span>
                ) : (
                  <label className="flex items-start gap-2.5">
                    <input
                      type="checkbox"
                      className="mt-1 accent-leaf"
                      checked={ticked.includes(i)}
                      onChange={(e) => {
                        tick(i, e.target.checked);
                      }}
                    />
                    <span>{words(p)}</span>
                  </label>
                )}
              </li>
            ))}
          </ul>
          {together && (
            <label className="mt-2 flex items-center gap-2.5">
              <input
                type="checkbox"
                className="accent-leaf"
                checked={ticked.includes(0)}
                onChange={(e) => {
                  tick(0, e.target.checked);
                }}
              />
              I have looked at these {warnings.length}
            </label>
          )}
        </Part>
      )}
    </>
  );
}

const words = (p: Finding) => [p.message, p.cure].filter(Boolean).join(" ");
