import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { ask, http, type Connection, type Fields, type Schemas } from "./client";

const all = { queryKey: ["connections"], queryFn: () => ask(http.GET("/connections")) };

export const useConnections = () => useQuery(all);

/** How many connections ask to be allowed at an address that is not public; asked for by those who may. */
export const useToAllow = (may: boolean) =>
  useQuery({
    ...all,
    enabled: may,
    refetchInterval: 60_000,
    select: (list) => list.connections.filter((c) => c.guarded).length,
  }).data ?? 0;

const at = (connection: string) => ({ params: { path: { connection } } });

/** What a person enters of an account. */
export interface Entered {
  name: string;
  connector: string;
  method?: string;
  account: Fields;
  values: Record<string, string>;
  scopes?: string[];
}

/** Stores an account, or what was mended of one that is known. */
export function useStoreConnection(known?: Connection) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: ({ name, connector, method, account, values, scopes }: Entered) => {
      const chosen = scopes ? { scopes } : {};
      return known
        ? ask(
            http.PUT("/connections/{connection}", {
              ...at(known.name),
              body: { method: method ?? known.method, account, values, ...chosen },
            }),
          )
        : ask(
            http.POST("/connections", {
              body: { name, connector, ...(method ? { method } : {}), account, values, ...chosen },
            }),
          );
    },
    onSuccess: () => {
      void client.invalidateQueries({ queryKey: ["connections"] });
    },
  });
}

/** Asks for the consent page of a connection. */
export const useBeginConsent = (connection: string) =>
  useMutation({
    mutationFn: () => ask(http.POST("/connections/{connection}/consent", { ...at(connection), body: {} })),
  });

/** What can be done with a connection that is there. */
export function useConnectionChanges(connection: string) {
  const client = useQueryClient();
  const done = () => {
    void client.invalidateQueries({ queryKey: ["connections"] });
    void client.invalidateQueries({ queryKey: ["calls", connection] });
  };
  return {
    check: useMutation({
      mutationFn: () => ask(http.POST("/connections/{connection}/check", at(connection))),
      onSuccess: done,
    }),
    confirm: useMutation({
      mutationFn: () => ask(http.POST("/connections/{connection}/confirm", at(connection))),
      onSuccess: done,
    }),
    remove: useMutation({
      mutationFn: () => ask(http.DELETE("/connections/{connection}", at(connection))),
      onSuccess: done,
    }),
    set: useMutation({
      mutationFn: (body: Schemas["ConnectionSettings"]) =>
        ask(http.PUT("/connections/{connection}/settings", { ...at(connection), body })),
      onSuccess: done,
    }),
  };
}

/** Lets the workspace reach an address that is not public, beside those that it may reach already. */
export const useAllow = () =>
  useMutation({
    mutationFn: async (address: string) => {
      const { addresses } = await ask(http.GET("/allowances"));
      return ask(http.PUT("/allowances", { body: { addresses: [...new Set([...addresses, address])] } }));
    },
  });

/** The last calls of a connection. */
export const useCalls = (connection: string) =>
  useQuery({
    queryKey: ["calls", connection],
    queryFn: () => ask(http.GET("/connections/{connection}/calls", at(connection))),
    refetchInterval: 5000,
  });

/** The choices of a list of the application. */
export const useChoices = (
  connection: string | undefined,
  list: string | undefined,
  input: Fields,
  on: boolean,
  search = "",
) =>
  useQuery({
    queryKey: ["choices", connection, list, input, search],
    enabled: on && connection !== undefined && list !== undefined,
    staleTime: 30_000,
    queryFn: () =>
      ask(
        http.POST("/connections/{connection}/choices/{list}", {
          params: { path: { connection: connection ?? "", list: list ?? "" } },
          body: { input, ...(search ? { search } : {}) },
        }),
      ),
    placeholderData: (before) => before,
  });

/** Makes one call of an action, or shows how it would go out. */
export const useTry = () =>
  useMutation({ mutationFn: (body: Schemas["Try"]) => ask(http.POST("/try", { body })) });
