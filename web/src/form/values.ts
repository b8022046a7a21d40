import { createContext, useContext } from "react";
import type { Source } from "./finder/paths";

/** What expressions can read where a form stands. */
export interface Values {
  sources: () => Source[]; // worked out when it is asked for
  /** Adds a line before this one that makes one item of each element of a list. */
  spread?: (list: string) => void;
}

export const ValuesContext = createContext<Values | undefined>(undefined);
export const useValues = () => useContext(ValuesContext);
