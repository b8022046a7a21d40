import { Link, useNavigate } from "@tanstack/react-router";
import type { Connector, Json } from "../api/client";
import { useByHand } from "../api/connectors";
import { useMakeWorkflow } from "../api/workflows";
import { Trouble } from "../ui/parts";
import { documentOf } from "./document";

interface Props {
  title: string; // of the workflow
  step: { [key: string]: Json };
  connector?: Connector;
}

/** Goes on with what was read: a workflow whose first line reads it. */
export function MakeOfRead({ title, step, connector }: Props) {
  const byHand = useByHand();
  const make = useMakeWorkflow();
  const navigate = useNavigate();
  return (
    <div className="mt-4">
      <p className="mb-2">
        That is real data. Go on with it
        {connector && (
          <>
            , or look at{" "}
            <Link to="/connectors" search={{ connector: connector.name }} className="text-leafink underline">
              everything it can do
            </Link>
          </>
        )}
        .
      </p>
      <button
        className="btn btn-main"
        disabled={make.isPending || !byHand}
        onClick={() => {
          make.mutate(documentOf(title, byHand?.type ?? "", [step]), {
            onSuccess: (w) => navigate({ to: "/workflows/$workflow", params: { workflow: w.name } }),
          });
        }}
      >
        Make a workflow that begins with it
      </button>
      <Trouble error={make.error} />
    </div>
  );
}
