import { useCallback, useEffect, useRef, useState } from "react";
import { Refusal } from "../api/client";
import type { Edit } from "../api/draft";
import { readJson, writeJson } from "../api/exact";

/** How long quick edits are gathered before they are sent, in milliseconds. */
const pause = 350;
/** How long after it could not be reached the service is tried again. */
const again = 2000;

const keyOf = (e: Edit) => `${e.op} ${e.step ?? ""} ${e.key ?? ""}`;

/** Edits that were typed in this browser and not saved, by workflow, with the draft that they were made on. */
const shelf = {
  put(workflow: string, version: number, edits: Edit[]) {
    try {
      if (edits.length === 0) localStorage.removeItem(`unsaved ${workflow}`);
      else localStorage.setItem(`unsaved ${workflow}`, writeJson({ version, edits }));
    } catch {
      // A browser that keeps nothing: what is typed is saved as soon as it can be.
    }
  },
  take(workflow: string): { version: number; edits: Edit[] } | undefined {
    try {
      const text = localStorage.getItem(`unsaved ${workflow}`);
      return text === null ? undefined : (readJson(text) as unknown as { version: number; edits: Edit[] });
    } catch {
      return undefined;
    }
  },
};

/**
 * Gathers quick edits of one setting into one, and sends them in order. What could not be sent is kept, also
 * over a closed tab, and sent once the service can be reached again.
 */
export function useGathered(
  workflow: { name: string; version: number },
  send: (edits: Edit[]) => Promise<unknown>,
  waits: (edits: Edit[]) => void,
) {
  const waiting = useRef(new Map<string, Edit>());
  const sent = useRef(new Map<string, Edit>()); // under way, so that what they say is one's own
  const timer = useRef<ReturnType<typeof setTimeout>>(undefined);
  const at = useRef(workflow);
  useEffect(() => {
    at.current = workflow;
  });
  const [unsaved, setUnsaved] = useState<"no" | "soon" | "away">("no");
  const flush = useCallback(() => {
    clearTimeout(timer.current);
    const edits = [...waiting.current.values()];
    waiting.current.clear();
    if (edits.length === 0) return;
    for (const e of edits) sent.current.set(keyOf(e), e);
    const landed = () => {
      for (const e of edits) if (sent.current.get(keyOf(e)) === e) sent.current.delete(keyOf(e));
    };
    send(edits).then(
      () => {
        landed();
        const more = [...waiting.current.values()];
        shelf.put(at.current.name, at.current.version, more);
        setUnsaved(more.length > 0 ? "soon" : "no");
      },
      (e: unknown) => {
        landed();
        if (!(e instanceof Refusal) || e.status !== 0) {
          shelf.put(at.current.name, at.current.version, [...waiting.current.values()]);
          setUnsaved("no"); // it was refused, and is said above the rows
          return;
        }
        for (const x of edits) if (!waiting.current.has(keyOf(x))) waiting.current.set(keyOf(x), x);
        setUnsaved("away");
        timer.current = setTimeout(flush, again);
      },
    );
  }, [send]);
  const edit = useCallback(
    (edits: Edit[]) => {
      for (const e of edits) {
        const own = sent.current.get(keyOf(e));
        const seen = waiting.current.get(keyOf(e))?.seen ?? (own ? { value: own.value ?? null } : e.seen);
        waiting.current.set(keyOf(e), seen === undefined ? e : { ...e, seen });
      }
      const all = [...waiting.current.values()];
      shelf.put(at.current.name, at.current.version, all);
      setUnsaved("soon");
      waits(all);
      clearTimeout(timer.current);
      timer.current = setTimeout(flush, pause);
    },
    [flush, waits],
  );
  useEffect(() => {
    const { name, version } = at.current;
    const left = shelf.take(name);
    shelf.put(name, version, []);
    // Where the draft has another version they were saved, or somebody has changed it since.
    if (left?.version === version && left.edits.length > 0) edit(left.edits);
    window.addEventListener("pagehide", flush);
    return () => {
      window.removeEventListener("pagehide", flush);
      flush();
    };
  }, [edit, flush]);
  return { flush, edit, unsaved };
}
