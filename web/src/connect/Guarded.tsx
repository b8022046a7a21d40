import { useAllow } from "../api/connections";
import { mayAllow, useMe } from "../api/session";
import { Trouble } from "../ui/parts";

interface Props {
  address: string;
  then?: string; // what follows once it is allowed, as "check again"
  busy?: boolean;
  asked?: boolean; // the administrators see that it waits for them
  onAllowed: () => void;
}

/** An address that is not public: who may allow it does so here, everybody else is told whom to ask, and for what. */
export function Guarded({ address, then, busy = false, asked = false, onAllowed }: Props) {
  const me = useMe();
  const allow = useAllow();
  const workspace = me.data?.workspace ?? "this workspace";
  return (
    <div className="mb-3 rounded-lg border border-amber p-3" role="group" aria-label="Not a public address">
      <p className="mb-2">
        <b className="break-all">{address}</b>{" "}
        {isNumber(address)
          ? "belongs to a network of your own, or to this machine."
          : "has no public address: it belongs to a network of your own, or its name is mistyped."}{" "}
        Such an address is only called once it was allowed, so that no workflow can be made to look about in
        there.
      </p>
      {mayAllow(me.data?.role) ? (
        <>
          <p className="mb-2.5 text-second">
            Allowing it lets every workflow of this workspace call {address}, and no other address beside it.
          </p>
          <button
            type="button"
            className="btn btn-main"
            disabled={busy || allow.isPending}
            onClick={() => {
              allow.mutate(address, { onSuccess: onAllowed });
            }}
          >
            {busy || allow.isPending ? "One moment…" : then ? `Allow it and ${then}` : "Allow it"}
          </button>
        </>
      ) : asked ? (
        <p className="text-second">
          The administrators of {workspace} have been asked: a number beside Connections says so to them until
          one of them allows it there, or the connection is removed. What you have entered is kept.
        </p>
      ) : (
        <p className="text-second">
          An administrator of {workspace} may allow it: tell them that {address} is wanted. To them this place
          offers it, and so does <span className="font-mono text-xs">trellis workspace allow {address}</span>.
        </p>
      )}
      <Trouble error={allow.error} />
    </div>
  );
}

/** An address that is written as a number, of IP version 4 or 6, and not as a name. */
const isNumber = (address: string) => /^(\d+\.\d+\.\d+\.\d+|\[.*\]):\d+$/.test(address);
