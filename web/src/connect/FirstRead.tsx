import type { Connector } from "../api/client";
import type { Read } from "../pages/Start";
import { TryAction } from "./TryAction";

interface Props {
  connector: Connector;
  connection: string;
  onRead: (r: Read | undefined) => void;
}

/** One real read, to see rows: nothing that writes is offered. */
export function FirstRead({ connector, connection, onRead }: Props) {
  const reads = connector.actions.filter((a) => a.effect === "read");
  const first = reads.find((a) => a.list) ?? reads[0];
  if (!first)
    return (
      <div className="card p-5 text-second">
        {connector.title} has nothing to read; what it writes is prepared in a workflow and shown before it
        goes out.
      </div>
    );
  return (
    <div className="card p-5">
      <h2 className="mb-3 font-serif text-[16px] font-semibold">Make one real read</h2>
      <TryAction
        connector={{ ...connector, actions: reads }}
        connection={connection}
        first={first.name}
        onTried={(t, action, input) => {
          onRead(t.why ? undefined : { action, input });
        }}
      />
    </div>
  );
}
