import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { ask, http, type Schemas, type Workflow } from "./client";
import type { Edit } from "./draft";
import type { WhatWasKept } from "./schedule";

export const useWorkflows = () =>
  useQuery({
    queryKey: ["workflows"],
    queryFn: () => ask(http.GET("/workflows", { params: { query: { limit: 200 } } })),
    refetchInterval: 10_000,
  });

export const useWorkflow = (workflow: string) =>
  useQuery({
    queryKey: ["workflow", workflow],
    queryFn: () => ask(http.GET("/workflows/{workflow}", { params: { path: { workflow } } })),
  });

export const useRehearsal = (workflow: string) =>
  useQuery({
    queryKey: ["rehearsal", workflow],
    queryFn: async () =>
      (await ask(http.GET("/workflows/{workflow}/rehearsal", { params: { path: { workflow } } }))) ?? null, // never
  });

export const useCallSheet = (workflow: string, on: boolean) =>
  useQuery({
    queryKey: ["hook", workflow],
    enabled: on,
    queryFn: () => ask(http.GET("/workflows/{workflow}/hook", { params: { path: { workflow } } })),
  });

const at = (workflow: string) => ({ params: { path: { workflow } } });

/** Makes a workflow of a document. */
export function useMakeWorkflow() {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (document: string) => ask(http.POST("/workflows", { body: { document } })),
    onSuccess: () => client.invalidateQueries({ queryKey: ["workflows"] }),
  });
}

/** Runs the draft on its samples, to its end or to a line. */
export function useRehearse(workflow: string) {
  const client = useQueryClient();
  return useMutation({
    scope: { id: `draft ${workflow}` },
    mutationFn: (to: string | undefined) =>
      ask(http.POST("/workflows/{workflow}/rehearsal", { ...at(workflow), body: to ? { to } : {} })),
    onSuccess: (r) => {
      client.setQueryData(["rehearsal", workflow], r);
    },
  });
}

/** The last rehearsal, computed anew for the draft with edits that are not saved yet. */
export const followOf = (workflow: string, edits: Edit[]) =>
  ask(
    http.POST("/workflows/{workflow}/rehearsal/follow", {
      ...at(workflow),
      body: { edits } as Schemas["Follow"],
    }),
  );

/** What a start by hand asks for. */
export const useStarting = (workflow: string) =>
  useQuery({
    queryKey: ["workflow", workflow, "starting"],
    queryFn: () => ask(http.GET("/workflows/{workflow}/start", at(workflow))),
  });

/** Starts a run by hand: with items, with those of an earlier run, or with none. */
export const useStart = (workflow: string) =>
  useMutation({
    mutationFn: (body: Schemas["Items"]) =>
      ask(http.POST("/workflows/{workflow}/start", { ...at(workflow), body })),
  });

/** Lets nothing start the workflow for now. */
export function usePause(workflow: string) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: () => ask(http.POST("/workflows/{workflow}/pause", at(workflow))),
    onSuccess: (w) => {
      client.setQueryData(["workflow", workflow], w);
    },
  });
}

/** Freezes the draft as it was seen, and puts it live. */
export function useGoLive(workflow: Workflow) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: ({ kept, first }: { kept: WhatWasKept | undefined; first: number | undefined }) =>
      ask(
        http.POST("/workflows/{workflow}/live", {
          params: {
            path: { workflow: workflow.name },
            query: { ...(kept ? { kept } : {}), ...(first ? { first } : {}) },
            header: { "If-Match": `"${String(workflow.version)}"` },
          },
        }),
      ),
    onSuccess: (w) => {
      client.setQueryData(["workflow", workflow.name], w);
      void client.invalidateQueries({ queryKey: ["workflows"] });
    },
  });
}

/** Makes a secret of a webhook; it is given once. */
export function useMakeHookSecret(workflow: string) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: () => ask(http.POST("/workflows/{workflow}/hook", { ...at(workflow), body: {} })),
    onSuccess: () => client.invalidateQueries({ queryKey: ["hook", workflow] }),
  });
}

/** Calls a webhook as the other side would, with the first sample. */
export function useTestCall(workflow: string) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: () => ask(http.POST("/workflows/{workflow}/hook/test", { ...at(workflow), body: {} })),
    onSuccess: () => client.invalidateQueries({ queryKey: ["samples", workflow] }),
  });
}

/** Ends a secret of a webhook: nobody proves anything by it from now on. */
export function useEndHookSecret(workflow: string) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (secret: string) =>
      ask(
        http.DELETE("/workflows/{workflow}/hook/secrets/{secret}", {
          params: { path: { workflow, secret } },
        }),
      ),
    onSuccess: () => client.invalidateQueries({ queryKey: ["hook", workflow] }),
  });
}
