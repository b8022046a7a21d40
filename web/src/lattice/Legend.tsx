import type { Fate } from "../api/client";
import { Mark } from "./marks";
import { fateWords } from "./shape";

/** The marks that occur, explained. */
export function Legend({ fates, simulated = false }: { fates: Fate[]; simulated?: boolean }) {
  return (
    <div className="flex flex-wrap gap-x-5 gap-y-1 text-xs text-second">
      {simulated && <span>≈ from a sample answer</span>}
      {fates
        .filter((f) => f !== "not_reached" && f !== "off")
        .map((f) => (
          <span key={f} className="flex items-center gap-1.5">
            <Mark fate={f} /> {fateWords(f)}
          </span>
        ))}
    </div>
  );
}
