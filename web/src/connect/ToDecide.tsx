import { toast } from "sonner";
import type { Connection } from "../api/client";
import { useConnectionChanges } from "../api/connections";
import { Trouble } from "../ui/parts";
import { ConsentButton } from "./ConsentButton";
import { Guarded } from "./Guarded";

/**
 * What somebody has to decide before a connection can be used: an address that is not public, the
 * consent, and whether it is the right account.
 */
export function ToDecide({ c }: { c: Connection }) {
  const { check, confirm } = useConnectionChanges(c.name);
  return (
    <>
      {c.guarded && (
        <Guarded
          address={c.guarded}
          then="check again"
          busy={check.isPending}
          asked
          onAllowed={() => {
            check.mutate(undefined, { onSuccess: (k) => toast(k.words) });
          }}
        />
      )}
      <Trouble error={check.error} />
      {c.state === "consent" && !c.guarded && (
        <div className="mb-3 rounded-lg border border-amber p-3">
          <p className="mb-2">
            The application asks on a page of its own whether Young Trellis may use the account.
          </p>
          <ConsentButton connection={c.name} />
        </div>
      )}
      {c.state === "confirm" && (
        <div className="mb-3 rounded-lg border border-amber p-3">
          <p className="mb-2">
            Somebody signed in as <b>{c.said}</b>. Is that the right account? Nothing uses it before you say
            so.
          </p>
          <div className="flex gap-2">
            <button
              className="btn btn-main"
              disabled={confirm.isPending}
              onClick={() => {
                confirm.mutate(undefined, {
                  onSuccess: (k) => toast(`${k.name} is active; runs that waited go on`),
                });
              }}
            >
              Yes, use it
            </button>
            <ConsentButton connection={c.name} again />
          </div>
          <Trouble error={confirm.error} />
        </div>
      )}
    </>
  );
}
