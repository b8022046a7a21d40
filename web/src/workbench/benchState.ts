import type { Place } from "../lattice/SampleLattice";

/** What is open on the workbench. */
export interface BenchState {
  opened: string | undefined; // a line by its key; "-" what starts it
  asText: boolean; // the document in place of the sentences
  spot: Place | undefined; // the cell that was chosen among the rows
  turned: number; // how often something was undone or done again
}

export type BenchAction =
  | { do: "open"; key: string | undefined; column: number } // its column among the rows, -1 for none
  | { do: "choose"; spot: Place }
  | { do: "rehearsed" }
  | { do: "turned" }
  | { do: "text" };

export const atFirst: BenchState = { opened: undefined, asText: false, spot: undefined, turned: 0 };

export function benchState(s: BenchState, a: BenchAction): BenchState {
  switch (a.do) {
    case "open":
      // The chosen row stays chosen, in the column of the line.
      return {
        ...s,
        opened: a.key,
        spot: a.key === undefined || !s.spot ? s.spot : { ...s.spot, column: Math.max(0, a.column) },
      };
    case "choose":
      return { ...s, spot: a.spot };
    case "rehearsed": // its rows may be others
      return { ...s, spot: undefined };
    case "turned":
      return { ...s, turned: s.turned + 1 };
    case "text":
      return { ...s, asText: !s.asText };
  }
}
