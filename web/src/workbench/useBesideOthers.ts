import { useQueryClient } from "@tanstack/react-query";
import { useCallback, useState, type Dispatch } from "react";
import { Refusal, type Workflow } from "../api/client";
import type { Edit, useDraft } from "../api/draft";
import type { BenchAction } from "./benchState";
import type { Overtaken } from "./Conflict";
import { seenBy } from "./seen";

/** Sends edits; where somebody else has changed the same in between, both are shown, to choose from. */
export function useBesideOthers(
  workflow: Workflow,
  draft: ReturnType<typeof useDraft>,
  act: Dispatch<BenchAction>,
) {
  const client = useQueryClient();
  const [overtaken, setOvertaken] = useState<Overtaken>();
  const { mutateAsync, reset } = draft.edit;
  const { name } = workflow;
  const send = useCallback(
    async (edits: Edit[]) => {
      try {
        await mutateAsync(edits);
      } catch (e) {
        if (!(e instanceof Refusal) || e.kind !== "changed_since") throw e;
        reset();
        await client.refetchQueries({ queryKey: ["workflow", name], exact: true });
        const by = client.getQueryData<Workflow>(["workflow", name])?.changed_by ?? "Somebody else";
        setOvertaken({ edits, by });
      }
    },
    [client, mutateAsync, name, reset],
  );
  const settle = (mine: boolean) => {
    if (mine && overtaken)
      void send(
        overtaken.edits.map((e) => {
          const seen = seenBy(workflow, e);
          return seen === undefined ? e : { ...e, seen };
        }),
      );
    else act({ do: "turned" }); // the forms show what stands there now
    setOvertaken(undefined);
  };
  return { send, overtaken, settle };
}
