import { toast } from "sonner";
import { useAllow } from "../api/connections";
import { mayAllow, useMe } from "../api/session";
import { Trouble } from "../ui/parts";

/** An address that is not public: who may allow it does so here, everybody else is told whom to ask, and for what. */
export function Guarded({ connection, address }: { connection: string; address: string }) {
  const me = useMe();
  const allow = useAllow(connection);
  const may = mayAllow(me.data?.role);
  return (
    <div className="mb-3 rounded-lg border border-amber p-3" role="group" aria-label="Not a public address">
      <p className="mb-2">
        <b className="break-all">{address}</b> belongs to a network of your own, or to this machine. Such an
        address is only called once it was allowed, so that no workflow can be made to look about in there.
      </p>
      {may ? (
        <>
          <p className="mb-2.5 text-second">
            Allowing it lets every workflow of this workspace call {address}, and no other address beside it.
          </p>
          <button
            type="button"
            className="btn btn-main"
            disabled={allow.isPending}
            onClick={() => {
              allow.mutate(address, { onSuccess: (c) => toast(c.words) });
            }}
          >
            {allow.isPending ? "Checking…" : "Allow it and check again"}
          </button>
        </>
      ) : (
        <p className="text-second">
          The administrators of {me.data?.workspace ?? "this workspace"} have been asked: a number beside
          Connections says so to them until one of them allows it there, or the connection is removed. What
          you have entered is kept.
        </p>
      )}
      <Trouble error={allow.error} />
    </div>
  );
}
