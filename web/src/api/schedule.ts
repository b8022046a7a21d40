import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { ask, http, type Schemas, type Workflow } from "./client";

/** What starts by the clock over the next hours. */
export const useSchedule = (hours: number) =>
  useQuery({
    queryKey: ["schedule", hours],
    refetchInterval: 15_000,
    placeholderData: keepPreviousData,
    queryFn: () => ask(http.GET("/schedule", { params: { query: { hours, most: 100 } } })),
  });

/** A cadence with its next times; undefined asks nothing. */
export const useCadence = (asked: Partial<Schemas["AskedCadence"]> | undefined, hold = false) =>
  useQuery({
    // Where it is held, what was there stays in sight until the new times are known.
    ...(hold ? { placeholderData: keepPreviousData } : {}),
    queryKey: ["cadence", asked],
    enabled: asked !== undefined,
    retry: false,
    queryFn: () => ask(http.POST("/cadence", { body: { count: 5, ...asked } })),
  });

/** What becomes of calls that were kept while a workflow was paused. */
export type WhatWasKept = "start" | "dismiss";

/** Lets a paused workflow start again. */
export function useUnpause(workflow: string) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (kept?: WhatWasKept) =>
      ask(
        http.POST("/workflows/{workflow}/unpause", {
          params: { path: { workflow }, query: kept ? { kept } : {} },
        }),
      ),
    onSuccess: (w: Workflow) => {
      client.setQueryData(["workflow", workflow], w);
      void client.invalidateQueries({ queryKey: ["workflows"] });
    },
  });
}

/** The reader's own zone, by its name. */
export const ownZone = () => Intl.DateTimeFormat().resolvedOptions().timeZone;
