import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { ask, http, type Schemas } from "./client";

export const useKinds = () =>
  useQuery({ queryKey: ["kinds"], queryFn: () => ask(http.GET("/kinds")), staleTime: Infinity });

export const useConnectors = () =>
  useQuery({ queryKey: ["connectors"], queryFn: () => ask(http.GET("/connectors")), staleTime: 60_000 });

/** A connector with its document. */
export const useConnectorDocument = (connector: string) =>
  useQuery({
    queryKey: ["connector", connector],
    queryFn: () => ask(http.GET("/connectors/{connector}", { params: { path: { connector } } })),
  });

/** Adds and removes connectors of the workspace's own. */
export function useConnectorChanges() {
  const client = useQueryClient();
  const again = () => {
    void client.invalidateQueries({ queryKey: ["connectors"] });
  };
  return {
    add: useMutation({
      mutationFn: (document: string) => ask(http.POST("/connectors", { body: { document } })),
      onSuccess: again,
    }),
    remove: useMutation({
      mutationFn: (connector: string) =>
        ask(http.DELETE("/connectors/{connector}", { params: { path: { connector } } })),
      onSuccess: again,
    }),
  };
}

/** Reads an OpenAPI document as a connector, which is not added yet. */
export const useReadOpenAPI = () =>
  useMutation({
    mutationFn: ({ document, address }: { document: string; address: string }) =>
      ask(http.POST("/connectors/import", { body: { document, ...(address ? { address } : {}) } })),
  });

/** Reads a call that was pasted. */
export const useReadPasted = () =>
  useMutation({ mutationFn: (text: string) => ask(http.POST("/paste", { body: { text } })) });

/** Keeps a pasted call as an action of a connector, and its secrets in a connection. */
export function useKeepPasted() {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas["KeepPasted"]) => ask(http.POST("/paste/keep", { body })),
    onSuccess: () => {
      void client.invalidateQueries({ queryKey: ["connections"] });
      void client.invalidateQueries({ queryKey: ["connectors"] });
    },
  });
}

/** The kind of trigger by which somebody starts a workflow. */
export const useByHand = () => useKinds().data?.triggers.find((k) => k.by_hand);
