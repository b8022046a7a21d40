import { useEffect, useRef } from "react";

/** Puts the focus where a page or a form begins, once it is there. */
export function useFirstFocus<T extends HTMLElement>(when = true) {
  const ref = useRef<T>(null);
  useEffect(() => {
    if (when) ref.current?.focus();
  }, [when]);
  return ref;
}
