import { useCallback, useEffect, useReducer, useRef } from "react";
import type { Workflow } from "../api/client";
import { has, renamesOf, useDraft, type Edit } from "../api/draft";
import { useSamples } from "../api/samples";
import { useSaveLater } from "../api/useSaveLater";
import { useRehearsal, useRehearse } from "../api/workflows";
import { atFirst, benchState } from "./benchState";
import { seenBy } from "./seen";
import { useBesideOthers } from "./useBesideOthers";
import { useFollow } from "./useFollow";
import { useGathered } from "./useGathered";
import { lineInAddress, useLineInAddress } from "./lineInAddress";
import { useLines } from "./useLines";
import { useUndoKeys } from "./useUndoKeys";

/** All that the workbench holds: the draft and its edits, the rows, and what is open. */
export function useBench(workflow: Workflow) {
  const [state, act] = useReducer(benchState, lineInAddress(), (opened) => ({ ...atFirst, opened }));
  const draft = useDraft(workflow.name);
  const rehearsal = useRehearsal(workflow.name);
  const samples = useSamples(workflow.name);
  const { seen, followed, follow } = useFollow(workflow, rehearsal.data, samples.data?.samples);
  const { send, overtaken, settle } = useBesideOthers(workflow, draft, act);
  const { edit: gather, flush, unsaved } = useGathered(workflow, send, follow);
  const columns = useRef(seen?.columns);
  useEffect(() => {
    columns.current = seen?.columns;
  });
  const choose = useCallback(
    (key: string | undefined) => {
      flush();
      act({ do: "open", key, column: columns.current?.findIndex((c) => c.name === key) ?? -1 });
    },
    [flush],
  );
  useLineInAddress(state.opened, draft.edit.mutate);
  const lines = useLines(workflow, draft, flush, choose);
  useUndoKeys(lines.back);
  const undone = draft.turn.submittedAt;
  useEffect(() => {
    if (draft.turn.isSuccess) act({ do: "turned" });
  }, [draft.turn.isSuccess, undone]);
  const edit = (edits: Edit[]) => {
    const [one, more] = edits;
    if (one && more === undefined && (one.op === "set" || one.op === "trigger")) {
      const seen = seenBy(workflow, one);
      gather([seen === undefined ? one : { ...one, seen }]);
    } else if (one?.op === "remove") void lines.careful(edits, "Gone");
    else if (one?.op === "rename") {
      const to = one.step?.includes("/")
        ? `${one.step.split("/")[0] ?? ""}/${String(one.value)}`
        : String(one.value);
      renamesOf(workflow.name).did(one.step ?? "", to);
      void lines.change(edits, "Renamed");
    } else void lines.change(edits);
  };
  const rehearse = useRehearse(workflow.name);
  const typing = useSaveLater(draft.save.mutate);
  return {
    ...state,
    // The line may have got another name since it was opened.
    chosen:
      state.opened === undefined ? undefined : renamesOf(workflow.name).now(state.opened, has(workflow)),
    act,
    choose,
    edit,
    lines,
    draft,
    unsaved,
    overtaken,
    settle,
    typing,
    samples: samples.data?.samples,
    seen,
    followed,
    rehearse: {
      ...rehearse,
      to: (line: string | undefined) => {
        flush();
        rehearse.mutate(line, {
          onSuccess: () => {
            act({ do: "rehearsed" });
          },
        });
      },
    },
    turnText: () => {
      flush();
      typing.flush();
      act({ do: "text" });
    },
  };
}

export type Bench = ReturnType<typeof useBench>;
