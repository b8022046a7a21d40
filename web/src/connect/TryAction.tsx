import { useState } from "react";
import { type Connector, type Fields, type Schemas } from "../api/client";
import { Trouble } from "../ui/parts";
import { ActionForm } from "./ActionForm";
import { useTry } from "../api/connections";
import { Answered } from "./Answered";
import { SendButtons } from "./SendButtons";

type Tried = Schemas["Tried"];

interface Props {
  connector: Connector;
  connection: string;
  first?: string; // the action that is chosen at first
  onTried?: (t: Tried, action: string, input: Fields) => void;
}

/** Tries one action: its form, the request as it would go out, and what came back. */
export function TryAction({ connector, connection, first, onTried }: Props) {
  const [name, setName] = useState(first ?? connector.actions[0]?.name ?? "");
  const [values, setValues] = useState<Fields>({});
  const action = connector.actions.find((a) => a.name === name);
  const call = useTry();
  const tries = (send: boolean) => {
    call.mutate(
      { connection, action: name, input: values, send },
      {
        onSuccess: (t) => {
          if (!t.sent.prepared) onTried?.(t, name, values);
        },
      },
    );
  };
  if (!action) return <div className="text-second">This connector has no actions yet.</div>;
  const id = `try-${connection}-${first ?? ""}`;
  const writes = action.effect === "write";
  return (
    <div id={id} className="min-w-0">
      <label className="label" htmlFor={`${id}-action`}>
        Action
      </label>
      <select
        id={`${id}-action`}
        className="field mb-3"
        value={name}
        onChange={(e) => {
          setName(e.target.value);
          setValues({});
          call.reset();
        }}
      >
        {connector.actions.map((a) => (
          <option key={a.name} value={a.name}>
            {a.title}
          </option>
        ))}
      </select>
      <ActionForm
        key={name}
        prefix={id}
        properties={action.fields}
        connection={connection}
        values={values}
        onChange={setValues}
      />
      <div className="mb-3 flex items-center gap-2">
        <SendButtons writes={writes} busy={call.isPending} onSend={tries} />
        {call.isPending && (
          <span className="text-second" role="status">
            Asking {connector.title}…
          </span>
        )}
      </div>
      {writes && <div className="hint -mt-1 mb-3">This writes to {connector.title}.</div>}
      <Trouble error={call.error} />
      {call.data && (
        <Answered
          t={call.data}
          again={() => {
            tries(true);
          }}
        />
      )}
    </div>
  );
}
