import type { WhatWasKept as Choice } from "../api/schedule";
import { OneOf } from "../ui/OneOf";
import { plural } from "../ui/words";

const ways: { value: Choice; words: string }[] = [
  { value: "start", words: "They start runs now, in the order in which they came." },
  { value: "dismiss", words: "They are dismissed." },
];

/** Asks what becomes of calls that were kept while the workflow was paused. */
export function WhatWasKept({
  calls,
  chosen,
  onChoose,
}: {
  calls: number;
  chosen: Choice | undefined;
  onChoose: (c: Choice) => void;
}) {
  return (
    <section className="border-t border-rule py-3" aria-label="What was kept">
      <h2 className="label mb-1">What was kept</h2>
      <p className="mb-1.5">
        {plural(calls, "call")} {calls === 1 ? "was" : "were"} kept while it was paused.
      </p>
      <OneOf label="What becomes of what was kept" ways={ways} chosen={chosen} onChoose={onChoose} />
    </section>
  );
}
