import { toast } from "sonner";
import type { Connection } from "../api/client";
import { useConnectionChanges } from "../api/connections";
import { useConnectors } from "../api/connectors";
import { ConsentButton } from "../connect/ConsentButton";
import { Trouble } from "../ui/parts";
import { plural, when } from "../ui/words";
import { Calls } from "./Calls";
import { Facts } from "./Facts";
import { Mend } from "./Mend";
import { Shape } from "./Shape";
import { State } from "./State";
import { ToDecide } from "../connect/ToDecide";

/** A connection: how it stands, what is known of it, and what can be done. */
export function Detail({ c }: { c: Connection }) {
  const connectors = useConnectors();
  const connector = connectors.data?.connectors.find((k) => k.name === c.connector);
  const way = connector?.sign_in.find((w) => w.name === c.method);
  const { check, remove } = useConnectionChanges(c.name);
  return (
    <section className="card p-5" aria-label={c.name}>
      <div className="mb-1 flex items-center gap-2.5">
        <h2 className="font-serif text-[18px] font-semibold">{c.name}</h2>
        <span className="text-second">{c.connector_title}</span>
        <span className="ml-auto">
          <State c={c} />
        </span>
      </div>
      <p className={`mb-3 ${c.state === "broken" ? "text-rust" : ""}`}>{c.words}.</p>
      <ToDecide c={c} />
      {c.waiting ? (
        <p className="mb-3 text-amber">
          {plural(c.waiting, "run")} {c.waiting === 1 ? "waits" : "wait"} for it, and{" "}
          {c.waiting === 1 ? "goes" : "go"} on when it works again.
        </p>
      ) : null}
      {c.held_until && (
        <p className="mb-3 text-amber">
          No call is made before {when(c.held_until)}: {c.held_why}
        </p>
      )}
      <Facts c={c} connector={connector} way={way} />
      <Trouble error={check.error ?? remove.error} />
      <div className="mb-5 flex flex-wrap gap-2">
        <button
          className="btn"
          disabled={check.isPending}
          onClick={() => {
            check.mutate(undefined, { onSuccess: (k) => toast(k.words) });
          }}
        >
          Check
        </button>
        {connector && <Mend c={c} connector={connector} />}
        {way?.consent && c.state !== "consent" && c.state !== "confirm" && (
          <ConsentButton connection={c.name} again />
        )}
        <Shape c={c} />
        <button
          className="btn btn-plain ml-auto"
          disabled={remove.isPending}
          onClick={() => {
            remove.mutate(undefined, { onSuccess: () => toast(`Removed ${c.name}`) });
          }}
        >
          Remove
        </button>
      </div>
      <Calls c={c} />
    </section>
  );
}
