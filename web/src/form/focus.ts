import { createContext, useContext } from "react";

/** Puts text into the expression that had the focus last. */
export interface Inserting {
  current: ((path: string) => void) | undefined;
}

export const Focus = createContext<Inserting>({ current: undefined });
export const useFocus = () => useContext(Focus);
