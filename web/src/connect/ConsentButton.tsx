import { useBeginConsent } from "../api/connections";
import { Trouble } from "../ui/parts";
import { goingAway } from "./comeBack";

/** Opens the consent page of a connection; one comes back to where one was. */
export function ConsentButton({ connection, again = false }: { connection: string; again?: boolean }) {
  const begin = useBeginConsent(connection);
  return (
    <>
      <button
        className={`btn ${again ? "" : "btn-main"}`}
        disabled={begin.isPending}
        onClick={() => {
          begin.mutate(undefined, {
            onSuccess: (page) => {
              goingAway(connection);
              window.location.assign(page.address);
            },
          });
        }}
      >
        {again ? "Sign in again" : "Open the consent page"}
      </button>
      <Trouble error={begin.error} />
    </>
  );
}
