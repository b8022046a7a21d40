import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { ask, http } from "./client";

/** What going live would do. */
export const useAhead = (workflow: string) =>
  useQuery({
    queryKey: ["ahead", workflow],
    staleTime: 0,
    gcTime: 0, // what was ahead when it was looked at last time is not shown first
    queryFn: () => ask(http.GET("/workflows/{workflow}/ahead", { params: { path: { workflow } } })),
  });

/** Puts an earlier revision live again. */
export function useGoBack(workflow: string) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (number: number) =>
      ask(
        http.POST("/workflows/{workflow}/revisions/{number}/live", {
          params: { path: { workflow, number } },
        }),
      ),
    onSuccess: (w) => {
      client.setQueryData(["workflow", workflow], w);
      void client.invalidateQueries({ queryKey: ["workflows"] });
    },
  });
}
