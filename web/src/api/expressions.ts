import { useQuery } from "@tanstack/react-query";
import { ask, http, type Fields } from "./client";

export const useFunctions = () =>
  useQuery({ queryKey: ["functions"], queryFn: () => ask(http.GET("/functions")), staleTime: Infinity });

/** What an expression gives for an item. */
export const useEvaluated = (
  source: string,
  template: boolean,
  item: Fields | undefined,
  trigger: Fields | undefined,
  on: boolean,
) =>
  useQuery({
    queryKey: ["evaluate", source, template, item, trigger],
    enabled: on,
    placeholderData: (before) => before,
    queryFn: () =>
      ask(http.POST("/evaluate", { body: { source, template, item: item ?? {}, trigger: trigger ?? {} } })),
  });
