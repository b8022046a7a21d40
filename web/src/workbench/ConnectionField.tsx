import { toast } from "sonner";
import type { Connection, Connector, Kind, Line, Schemas } from "../api/client";
import { useConnections } from "../api/connections";
import { AddAccount } from "../connect/AddAccount";
import { Problems } from "../form/Problems";

interface Props {
  line: Line;
  connectors: Connector[];
  wanted: string | undefined; // the connector that it must be of; any that makes calls
  required: boolean;
  problems: Schemas["Finding"][];
  onSet: (name: string | null) => void;
}

/** The connection of the kind of step or action that a line is, if it has one at all. */
export const wantedOf = (line: Line, kind: Kind | undefined, action: boolean) =>
  action ? line.type.split(".")[0] : kind?.needs;

/** The account that a line uses. One that is missing is added here. */
export function ConnectionField({ line, connectors, wanted, required, problems, onSet }: Props) {
  const list = useConnections().data?.connections;
  const connector = connectors.find((c) => c.name === wanted);
  const fits = (c: Connection) =>
    wanted === undefined
      ? connectors.find((x) => x.name === c.connector)?.web !== false
      : c.connector === wanted;
  const fitting = list?.filter(fits) ?? [];
  const take = (c: Connection) => {
    onSet(c.name);
    toast(`${c.name}: ${c.words}`);
  };
  const none = list !== undefined && fitting.length === 0 && wanted !== undefined;
  return (
    <div>
      <div className="flex items-baseline justify-between gap-3">
        <label className="label" htmlFor={`${line.name}-connection`}>
          Connection
        </label>
        {connector && !none && <AddAccount connector={connector} main={false} onReady={take} />}
      </div>
      {none ? (
        <div className="flex flex-wrap items-center gap-3">
          {connector && <AddAccount connector={connector} main onReady={take} />}
          <span className="text-second">There is no account of {connector?.title ?? wanted} yet.</span>
        </div>
      ) : (
        <select
          id={`${line.name}-connection`}
          className="field"
          value={line.connection ?? ""}
          onChange={(e) => {
            onSet(e.target.value || null);
          }}
        >
          <option value="">{required ? "Choose…" : "none: the address is open to everybody"}</option>
          {fitting.map((c) => (
            <option key={c.name} value={c.name}>
              {c.name}
              {c.state === "broken" ? ", does not work" : ""}
            </option>
          ))}
        </select>
      )}
      <Problems list={problems} />
    </div>
  );
}
