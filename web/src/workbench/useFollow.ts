import { useCallback, useEffect, useRef, useState } from "react";
import type { Rehearsal, Schemas, Workflow } from "../api/client";
import type { Edit } from "../api/draft";
import { followOf } from "../api/workflows";
import { padded } from "./followed";

/** How long a result that ends at an error is kept back, in milliseconds: while one types there is often one. */
const patience = 700;

/**
 * The rows of the draft as it is, also while it is typed: computed anew after each edit from what the last
 * rehearsal has read. One computation is under way at a time; what was typed meanwhile comes with the next.
 */
export function useFollow(
  workflow: Workflow,
  rehearsed: Rehearsal | null | undefined,
  samples: Schemas["Sample"][] | undefined,
) {
  const [got, setGot] = useState<{ of: string; seen: Rehearsal }>();
  const made = rehearsed?.made;
  // What was computed from an earlier rehearsal is over when there is another.
  const shown = got && got.of === made ? got.seen : undefined;
  const latest = useRef({ workflow, made, seen: shown ?? rehearsed ?? undefined });
  useEffect(() => {
    latest.current = { workflow, made, seen: shown ?? rehearsed ?? undefined };
  });
  const state = useRef<{
    busy: boolean;
    next: Edit[] | undefined;
    later: ReturnType<typeof setTimeout> | undefined;
  }>({
    busy: false,
    next: undefined,
    later: undefined,
  });

  const follow = useCallback((edits: Edit[]) => {
    const s = state.current;
    s.next = edits;
    if (s.busy) return;
    const once = async (): Promise<void> => {
      const edits = s.next;
      s.next = undefined;
      const of = latest.current.made;
      if (edits === undefined || of === undefined) return;
      const seen = await followOf(latest.current.workflow.name, edits).catch(() => undefined);
      clearTimeout(s.later);
      const show = () => {
        if (seen && latest.current.made === of)
          setGot({ of, seen: padded(seen, latest.current.seen, latest.current.workflow) });
      };
      if (seen?.until === undefined) show();
      else s.later = setTimeout(show, patience);
      await once();
    };
    s.busy = true;
    void once().finally(() => {
      s.busy = false;
      if (s.next !== undefined) follow(s.next);
    });
  }, []);

  const stale = rehearsed ? rehearsed.version !== workflow.version : false;
  useEffect(() => {
    if (stale || shown) follow([]);
    // Shown is left out: what is computed is no reason to compute it again.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [follow, made, stale, workflow.version]);
  const first = useRef(samples);
  useEffect(() => {
    if (first.current !== undefined && first.current !== samples) follow([]);
    first.current = samples;
  }, [follow, samples]);
  useEffect(
    () => () => {
      clearTimeout(state.current.later);
    },
    [],
  );
  return { seen: shown ?? rehearsed ?? undefined, followed: shown !== undefined, follow };
}
