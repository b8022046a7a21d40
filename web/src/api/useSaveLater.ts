import { useCallback, useEffect, useRef } from "react";

/** Saves a text some time after it was typed last, and at once where the page is left: nothing typed is lost. */
export function useSaveLater(save: (text: string) => void, wait = 500) {
  const pending = useRef<string>(undefined);
  const timer = useRef<ReturnType<typeof setTimeout>>(undefined);
  const flush = useCallback(() => {
    clearTimeout(timer.current);
    const text = pending.current;
    pending.current = undefined;
    if (text !== undefined) save(text);
  }, [save]);
  const later = useCallback(
    (text: string) => {
      pending.current = text;
      clearTimeout(timer.current);
      timer.current = setTimeout(flush, wait);
    },
    [flush, wait],
  );
  useEffect(() => {
    window.addEventListener("pagehide", flush);
    return () => {
      window.removeEventListener("pagehide", flush);
      flush();
    };
  }, [flush]);
  return { later, flush };
}
