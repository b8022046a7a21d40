import { useCallback, useEffect, useRef } from "react";
import type { Edit } from "../api/draft";

/** How long quick edits are gathered before they are sent, in milliseconds. */
const pause = 350;

/** Gathers quick edits of one setting into one, and sends them in order. */
export function useGathered(send: (edits: Edit[]) => void, waits: (edits: Edit[]) => void) {
  const waiting = useRef(new Map<string, Edit>());
  const timer = useRef<ReturnType<typeof setTimeout>>(undefined);
  const flush = useCallback(() => {
    clearTimeout(timer.current);
    const edits = [...waiting.current.values()];
    waiting.current.clear();
    if (edits.length > 0) send(edits);
  }, [send]);
  useEffect(() => flush, [flush]);
  const edit = useCallback(
    (edits: Edit[]) => {
      for (const e of edits) waiting.current.set(`${e.op} ${e.step ?? ""} ${e.key ?? ""}`, e);
      waits([...waiting.current.values()]);
      clearTimeout(timer.current);
      timer.current = setTimeout(flush, pause);
    },
    [flush, waits],
  );
  return { flush, edit };
}
