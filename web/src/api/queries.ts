import { useInfiniteQuery, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { ask, http, type Fate, type Json, type Run, type Schemas } from "./client";

export const useMe = () =>
  useQuery({ queryKey: ["me"], queryFn: () => ask(http.GET("/session")), retry: false, staleTime: 60_000 });

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

export const useKinds = () =>
  useQuery({ queryKey: ["kinds"], queryFn: () => ask(http.GET("/kinds")), staleTime: Infinity });
export const useConnectors = () =>
  useQuery({ queryKey: ["connectors"], queryFn: () => ask(http.GET("/connectors")), staleTime: 60_000 });
export const useFunctions = () =>
  useQuery({ queryKey: ["functions"], queryFn: () => ask(http.GET("/functions")), staleTime: Infinity });
export const useConnections = () =>
  useQuery({ queryKey: ["connections"], queryFn: () => ask(http.GET("/connections")) });

export const useSamples = (workflow: string, watching = false) =>
  useQuery({
    queryKey: ["samples", workflow],
    queryFn: () => ask(http.GET("/workflows/{workflow}/samples", { params: { path: { workflow } } })),
    refetchInterval: watching ? 1500 : false,
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

export const useDiff = (workflow: string, on: boolean) =>
  useQuery({
    queryKey: ["diff", workflow],
    enabled: on,
    staleTime: 0,
    queryFn: () => ask(http.GET("/workflows/{workflow}/diff", { params: { path: { workflow } } })),
  });

export interface RunFilter {
  workflow?: string;
  state?: Schemas["RunState"];
}

export const useRuns = (filter: RunFilter) =>
  useQuery({
    queryKey: ["runs", filter],
    queryFn: () => ask(http.GET("/runs", { params: { query: { ...filter, limit: 100 } } })),
    refetchInterval: 4000,
  });

const RUNS = 100;

/** Runs, newest first, page after page. What is on the screen stays up to date. */
export const useRunPages = (filter: RunFilter) =>
  useInfiniteQuery({
    queryKey: ["runs", "pages", filter],
    initialPageParam: undefined as string | undefined,
    queryFn: ({ pageParam }) =>
      ask(
        http.GET("/runs", {
          params: { query: { ...filter, limit: RUNS, ...(pageParam ? { before: pageParam } : {}) } },
        }),
      ),
    getNextPageParam: (last) => last.next,
    refetchInterval: (q) => ((q.state.data?.pages.length ?? 0) > 1 ? false : 4000),
  });

const over = (state: string) => !["queued", "running", "waiting"].includes(state);

/** A run, kept up to date by server-sent events until it has ended. */
export function useRun(run: string) {
  const client = useQueryClient();
  const query = useQuery({
    queryKey: ["run", run],
    queryFn: () => ask(http.GET("/runs/{run}", { params: { path: { run } } })),
  });
  const live = query.data !== undefined && !over(query.data.run.state);
  useEffect(() => {
    if (!live) return;
    const events = new EventSource(`/api/v1/runs/${run}/events`);
    events.addEventListener("run", (e) => {
      const next = JSON.parse((e as MessageEvent<string>).data) as Run;
      client.setQueryData(["run", run], next);
      void client.invalidateQueries({ queryKey: ["lattice", run] });
      if (over(next.run.state)) events.close();
    });
    return () => {
      events.close();
    };
  }, [client, live, run]);
  return query;
}

export const WINDOW = 100;

export const latticeWindow = (run: string, page: number, fate: Fate | undefined) => ({
  queryKey: ["lattice", run, fate ?? "", page],
  queryFn: () =>
    ask(
      http.GET("/runs/{run}/lattice", {
        params: { path: { run }, query: { from: page * WINDOW, count: WINDOW, ...(fate ? { fate } : {}) } },
      }),
    ),
});

export const useOpened = (run: string, address: string | undefined, step: string | undefined) =>
  useQuery({
    queryKey: ["cell", run, address, step],
    enabled: address !== undefined && step !== undefined,
    queryFn: () =>
      ask(
        http.GET("/runs/{run}/cells/{address}/{step}", {
          params: { path: { run, address: address ?? "", step: step ?? "" } },
        }),
      ),
  });

export interface Edit {
  op: string;
  step?: string;
  key?: string;
  in?: string;
  to?: number;
  value?: Json;
}
