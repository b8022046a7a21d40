import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { ask, http, Refusal, type Schemas } from "./client";

type Role = Schemas["Role"];

/** Who is signed in; null where nobody is. */
export const useMe = () =>
  useQuery({
    queryKey: ["me"],
    queryFn: async () => (await ask(http.GET("/session"))) ?? null,
    retry: false,
    staleTime: 60_000,
  });

/** Whether somebody may allow addresses that are not public. */
export const mayAllow = (role: Role | undefined) => role === "administrator" || role === "owner";

/** Signs in by mail address and password. */
export function useSignIn() {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (body: { email: string; password: string }) => ask(http.POST("/session", { body })),
    onSuccess: (me) => {
      client.setQueryData(["me"], me);
    },
  });
}

/** Signs out, and forgets all that was read. */
export function useSignOut() {
  const client = useQueryClient();
  return async () => {
    try {
      await ask(http.DELETE("/session"));
    } catch (e) {
      // A session that has ended is what was wanted; any other is still open, and whoever leaves has to know.
      if (!(e instanceof Refusal && e.status === 401)) throw e;
    }
    client.clear();
  };
}
