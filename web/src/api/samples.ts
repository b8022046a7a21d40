import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { ask, http, type Fields } from "./client";

export const useSamples = (workflow: string, watching = false) =>
  useQuery({
    queryKey: ["samples", workflow],
    queryFn: () => ask(http.GET("/workflows/{workflow}/samples", { params: { path: { workflow } } })),
    refetchInterval: (q) => (watching || q.state.data?.taking ? 500 : false), // what comes is seen as it comes
  });

/** All that can be done with the samples of a workflow. */
export function useSampleChanges(workflow: string) {
  const client = useQueryClient();
  const again = () => client.invalidateQueries({ queryKey: ["samples", workflow] });
  const path = { workflow };
  return {
    add: useMutation({
      mutationFn: (body: { fields: Fields; source?: string }) =>
        ask(http.POST("/workflows/{workflow}/samples", { params: { path }, body })),
      onSuccess: again,
    }),
    change: useMutation({
      mutationFn: ({ id, fields }: { id: string; fields: Fields }) =>
        ask(
          http.PUT("/workflows/{workflow}/samples/{id}", {
            params: { path: { ...path, id } },
            body: { fields },
          }),
        ),
      onSuccess: again,
    }),
    expect: useMutation({
      mutationFn: ({ id, expected }: { id: string; expected: Fields }) =>
        ask(
          http.PUT("/workflows/{workflow}/samples/{id}/expected", {
            params: { path: { ...path, id } },
            body: expected,
          }),
        ),
      onSuccess: again,
    }),
    remove: useMutation({
      mutationFn: (id: string) =>
        ask(http.DELETE("/workflows/{workflow}/samples/{id}", { params: { path: { ...path, id } } })),
      onSuccess: again,
    }),
    take: useMutation({
      mutationFn: (personal: "masked" | "kept") =>
        ask(http.POST("/workflows/{workflow}/samples/take", { params: { path, query: { personal } } })),
      onSuccess: again,
    }),
  };
}

/** What is known of each field of the samples. */
export const useProfile = (workflow: string, on: boolean, at: unknown) =>
  useQuery({
    queryKey: ["samples", workflow, "profile", at],
    enabled: on,
    queryFn: () => ask(http.GET("/workflows/{workflow}/profile", { params: { path: { workflow } } })),
    placeholderData: (before) => before,
  });
