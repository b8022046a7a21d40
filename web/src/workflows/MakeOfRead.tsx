import { Link, useNavigate } from "@tanstack/react-router";
import type { Connector } from "../api/client";
import { useMakeWorkflow } from "../api/workflows";
import type { Read } from "../pages/Start";
import { Trouble } from "../ui/parts";
import { documentOf } from "./document";

/** Goes on with what was read: a workflow whose first line reads it. */
export function MakeOfRead({
  connector,
  connection,
  read,
}: {
  connector: Connector;
  connection: string;
  read: Read;
}) {
  const make = useMakeWorkflow();
  const navigate = useNavigate();
  const action = connector.actions.find((a) => a.name === read.action);
  const title = `${action?.title ?? "Read"}, ${connector.title}`;
  return (
    <div className="mt-4">
      <p className="mb-2">
        That is real data. Go on with it, or look at{" "}
        <Link to="/connectors" search={{ connector: connector.name }} className="text-leafink underline">
          everything it can do
        </Link>
        .
      </p>
      <button
        className="btn btn-main"
        disabled={make.isPending}
        onClick={() => {
          make.mutate(
            documentOf(title, "manual", [
              {
                name: read.action,
                type: `${connector.name}.${read.action}`,
                connection,
                input: read.input,
              },
            ]),
            {
              onSuccess: (w) => navigate({ to: "/workflows/$workflow", params: { workflow: w.name } }),
            },
          );
        }}
      >
        Make a workflow that begins with it
      </button>
      <Trouble error={make.error} />
    </div>
  );
}
