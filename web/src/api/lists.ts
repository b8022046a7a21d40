import { useEffect } from "react";
import {
  keepPreviousData,
  useInfiniteQuery,
  useMutation,
  useQuery,
  useQueryClient,
} from "@tanstack/react-query";
import { ask, http, type Fields, type Schemas } from "./client";

export type List = Schemas["WorkspaceList"];
export type ListColumn = Schemas["ListColumn"];
export type ListRow = Schemas["ListRow"];
export type ListOutcome = Schemas["ListOutcome"];
type Role = Schemas["Role"];

/** Whether somebody may change the rows of lists. */
export const mayEditRows = (role: Role | undefined) => role !== undefined && role !== "viewer";

/** Whether somebody may make lists, remove them, and change their columns. */
export const mayShapeLists = (role: Role | undefined) => mayEditRows(role) && role !== "operator";

export const useLists = () =>
  useQuery({ queryKey: ["lists"], queryFn: () => ask(http.GET("/lists")), refetchInterval: 15_000 });

/** The lists as they were read last, where nothing hangs on the newest. */
export const useListNames = () =>
  useQuery({
    queryKey: ["lists"],
    queryFn: () => ask(http.GET("/lists")),
    staleTime: 60_000,
    refetchOnWindowFocus: false,
  });

/** One list, without its rows. */
export const useList = (list: string) =>
  useQuery({
    queryKey: ["list", list],
    enabled: list !== "",
    queryFn: () => ask(http.GET("/lists/{list}", { params: { path: { list } } })),
  });

/** How many rows are read at once. */
const page = 200;

/** The rows of a list that hold a text, a page at a time. All that were read are read again once it has changed. */
export function useListRows(list: string, version: number, find: string) {
  const rows = useInfiniteQuery({
    queryKey: ["list rows", list, find],
    enabled: list !== "",
    placeholderData: keepPreviousData,
    initialPageParam: 0,
    queryFn: ({ pageParam }) =>
      ask(
        http.GET("/lists/{list}/rows", {
          params: { path: { list }, query: { find, from: pageParam, limit: page } },
        }),
      ),
    getNextPageParam: (last, all) => {
      const read = all.reduce((n, p) => n + p.rows.length, 0);
      return read < last.total ? read : undefined;
    },
  });
  const read = rows.data?.pages[0]?.version;
  const { refetch } = rows;
  useEffect(() => {
    if (read !== undefined && read < version) void refetch();
  }, [read, version, refetch]);
  return rows;
}

/** Who changed a list and when. */
export const useListChanges = (list: string, version: number) =>
  useQuery({
    queryKey: ["list changes", list, version],
    queryFn: () => ask(http.GET("/lists/{list}/changes", { params: { path: { list } } })),
  });

/** What a change did to the rows. */
export const useListChange = (list: string, number: number) =>
  useQuery({
    queryKey: ["list change", list, number],
    queryFn: () => ask(http.GET("/lists/{list}/changes/{number}", { params: { path: { list, number } } })),
  });

/** What would become of a list if CSV was taken in; "" asks nothing. */
export const useTryCSV = (list: string, csv: string, how: "merge" | "replace") =>
  useQuery({
    queryKey: ["list csv", list, csv, how],
    enabled: csv.trim() !== "",
    retry: false,
    queryFn: () =>
      ask(http.POST("/lists/{list}/csv", { params: { path: { list } }, body: { csv, how, try: true } })),
  });

export interface RowEdit {
  key?: string;
  fields?: Fields;
  remove?: boolean;
}

/** Makes a list. */
export function useAddList() {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas["NewList"]) => ask(http.POST("/lists", { body })),
    onSuccess: () => client.invalidateQueries({ queryKey: ["lists"] }),
  });
}

/** Changes a list. What was shown counts: a row that somebody else has changed meanwhile is not overwritten. */
export function useListEdits(list: List) {
  const client = useQueryClient();
  const path = { list: list.name };
  // One edit after the other, each with the version that the one before has made: nobody is refused for what they
  // have changed themselves.
  const scope = { id: `list ${list.name}` };
  const seen = () => {
    const known = client.getQueryData<{ lists: List[] }>(["lists"])?.lists.find((l) => l.name === list.name);
    return { "If-Match": `"${String(known?.version ?? list.version)}"` };
  };
  const onSuccess = (out: ListOutcome) => {
    client.setQueryData(["lists"], (all: { lists: List[] } | undefined) =>
      all ? { lists: all.lists.map((l) => (l.name === out.list.name ? out.list : l)) } : all,
    );
  };
  return {
    rows: useMutation({
      scope,
      mutationFn: (edits: RowEdit[]) =>
        ask(http.POST("/lists/{list}/rows", { params: { path, header: seen() }, body: { edits } })),
      onSuccess,
    }),
    shape: useMutation({
      scope,
      mutationFn: (body: Schemas["ListShape"]) =>
        ask(http.PATCH("/lists/{list}", { params: { path, header: seen() }, body })),
      onSuccess,
    }),
    csv: useMutation({
      scope,
      mutationFn: (body: { csv: string; how: "merge" | "replace" }) =>
        ask(http.POST("/lists/{list}/csv", { params: { path, header: seen() }, body })),
      onSuccess,
    }),
    back: useMutation({
      scope,
      mutationFn: (number: number) =>
        ask(http.POST("/lists/{list}/changes/{number}/back", { params: { path: { ...path, number } } })),
      onSuccess,
    }),
    remove: useMutation({
      mutationFn: () => ask(http.DELETE("/lists/{list}", { params: { path } })),
      onSuccess: () => client.invalidateQueries({ queryKey: ["lists"] }),
    }),
  };
}
