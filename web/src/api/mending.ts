import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { ask, http, type Schemas } from "./client";

export type Wish = Schemas["MendingWish"];
export type Mending = Schemas["Mending"];

export const moves = (m: Mending | undefined) => m?.state === "going" || m?.state === "cancelling";

/** How many items wait for somebody, grouped by what they came to. */
export const useGroups = (on = true) =>
  useQuery({
    queryKey: ["items", "groups"],
    enabled: on,
    queryFn: () => ask(http.GET("/items/groups")),
    refetchInterval: 15_000,
  });

export const useItems = (where: Schemas["ItemWhere"], on: boolean) =>
  useQuery({
    queryKey: ["items", "list", where],
    enabled: on,
    queryFn: () => ask(http.GET("/items", { params: { query: { ...where, limit: 50 } } })),
  });

export const usePlan = (wish: Wish, on: boolean) =>
  useQuery({
    queryKey: ["items", "plan", wish],
    enabled: on,
    staleTime: 0,
    gcTime: 0,
    queryFn: () => ask(http.POST("/mendings/plan", { body: wish })),
  });

/** A mending, followed until it is over. */
export function useMending(id: string | undefined) {
  const client = useQueryClient();
  return useQuery({
    queryKey: ["mending", id],
    enabled: id !== undefined,
    queryFn: async () => {
      const m = await ask(http.GET("/mendings/{mending}", { params: { path: { mending: id ?? "" } } }));
      if (!moves(m))
        for (const key of ["items", "run", "lattice", "cell", "runs"])
          void client.invalidateQueries({ queryKey: [key] });
      return m;
    },
    refetchInterval: (q) => (moves(q.state.data) ? 400 : false),
  });
}

/** Begins a mending, and ends it half-way. */
export function useMend() {
  const client = useQueryClient();
  const fresh = (m: Mending) => {
    client.setQueryData(["mending", m.id], m);
  };
  return {
    begin: useMutation({
      mutationFn: (wish: Wish) => ask(http.POST("/mendings", { body: wish })),
      onSuccess: fresh,
    }),
    cancel: useMutation({
      mutationFn: (id: string) =>
        ask(http.POST("/mendings/{mending}/cancel", { params: { path: { mending: id } } })),
      onSuccess: fresh,
    }),
    dismiss: useMutation({
      mutationFn: (d: Schemas["Dismissal"]) => ask(http.POST("/items/dismiss", { body: d })),
      onSuccess: () => client.invalidateQueries({ queryKey: ["items"] }),
    }),
  };
}
