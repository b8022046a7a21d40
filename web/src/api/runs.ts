import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { ask, http, type Fate, type Run, type Schemas } from "./client";

/** Which runs are listed. */
export interface RunFilter {
  workflow?: string;
  state?: Schemas["RunState"];
  fate?: "held_back" | "gave_nothing" | "set_aside" | "stopped" | "may_have_been_sent";
  from?: string; // a day by the reader's clock, as 2026-11-20; what begins on it counts
  to?: string; // likewise
}

/** A filter as the service takes it: days by their moments. */
export function asQuery({ from, to, ...rest }: RunFilter) {
  const midnight = (day: string, after: number) => {
    const [y = 0, m = 1, d = 1] = day.split("-").map(Number);
    return new Date(y, m - 1, d + after).toISOString();
  };
  return {
    ...rest,
    ...(from ? { from: midnight(from, 0) } : {}),
    ...(to ? { to: midnight(to, 1) } : {}),
  };
}

export const useRuns = (filter: RunFilter) =>
  useQuery({
    queryKey: ["runs", filter],
    queryFn: () => ask(http.GET("/runs", { params: { query: { ...asQuery(filter), limit: 100 } } })),
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
          params: { query: { ...asQuery(filter), limit: RUNS, ...(pageParam ? { before: pageParam } : {}) } },
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

const at = (run: string) => ({ params: { path: { run } } });

function useAgain(run: string) {
  const client = useQueryClient();
  return () => {
    for (const key of ["run", "lattice", "cell"]) void client.invalidateQueries({ queryKey: [key, run] });
  };
}

/** Goes on where a failed run stopped. */
export const useResume = (run: string) =>
  useMutation({
    mutationFn: () => ask(http.POST("/runs/{run}/resume", { ...at(run), body: {} })),
    onSuccess: useAgain(run),
  });

/** Lets nothing further of a run begin. */
export const useCancel = (run: string) =>
  useMutation({ mutationFn: () => ask(http.POST("/runs/{run}/cancel", at(run))), onSuccess: useAgain(run) });

/** The runs through which the same item went before and after. */
export const useHistory = (run: string, address: string) =>
  useQuery({
    queryKey: ["cell", run, address, "history"],
    queryFn: () =>
      ask(http.GET("/runs/{run}/items/{address}/history", { params: { path: { run, address } } })),
  });

const keepStart = async (workflow: string, run: string, address: string) => {
  const trigger = await ask(
    http.GET("/runs/{run}/cells/{address}/{step}", { params: { path: { run, address, step: "-" } } }),
  );
  return ask(
    http.POST("/workflows/{workflow}/samples", {
      params: { path: { workflow } },
      body: { fields: trigger.before, source: `from run ${run.slice(0, 8)}` },
    }),
  );
};

function useKeep<T>(mutationFn: (v: T) => Promise<unknown>) {
  const client = useQueryClient();
  return useMutation({
    mutationFn,
    onSuccess: () => {
      void client.invalidateQueries({ queryKey: ["samples"] });
    },
  });
}

/** Keeps the trigger's item of a row as a sample of its workflow. */
export const useKeepAsSample = (run: string, workflow: string) =>
  useKeep((address: string) => keepStart(workflow, run, address));

/** Keeps what a run began with as a sample of its workflow: its first item. */
export const useKeepStart = (workflow: string) => useKeep((run: string) => keepStart(workflow, run, "0"));

const PAGE = 50;

/** The rows of a run, page after page. */
export const useRowPages = (run: string, fate: Fate | undefined) =>
  useInfiniteQuery({
    queryKey: ["lattice", run, "list", fate ?? ""],
    initialPageParam: 0,
    queryFn: ({ pageParam }) => rowsOf(run, { from: pageParam, count: PAGE, ...(fate ? { fate } : {}) }),
    getNextPageParam: (last, pages) =>
      pages.length * PAGE < last.matching ? pages.length * PAGE : undefined,
  });

/** What of a lattice is asked for. */
export interface Wanted {
  band?: string;
  within?: string[];
  fate?: Fate;
  from?: number;
  count?: number;
  at?: string;
  around?: string;
}

/** Rows of a run's lattice. */
export const rowsOf = (run: string, query: Wanted) =>
  ask(http.GET("/runs/{run}/lattice", { params: { path: { run }, query } }));

/** How the rows of a lattice fold. */
export const shapeOf = (run: string, query: Pick<Wanted, "band" | "within" | "fate">) =>
  ask(http.GET("/runs/{run}/lattice/shape", { params: { path: { run }, query } }));
