import { useNavigate, useSearch } from "@tanstack/react-router";
import { useEffect } from "react";
import { useConnections } from "../api/connections";
import { useConnectors } from "../api/connectors";
import { cameBack } from "../connect/comeBack";
import { AddConnection } from "../connections/AddConnection";
import { Detail } from "../connections/Detail";
import { State } from "../connections/State";
import { Nothing, Trouble, Waiting } from "../ui/parts";
import { consents } from "../words/table";
import { plural } from "../ui/words";

export function Connections() {
  const list = useConnections();
  const reading = [list.isPending, useConnectors().isPending].includes(true);
  const search: { connection?: string; trouble?: string } = useSearch({ strict: false });
  const navigate = useNavigate();
  const { connection, trouble } = search;
  const works = list.data?.connections.find((c) => c.name === connection)?.state === "ok";
  useEffect(() => {
    const to = works && connection !== undefined && trouble === undefined ? cameBack(connection) : undefined;
    if (to !== undefined) void navigate({ href: to });
  }, [connection, trouble, works, navigate]);
  const all = list.data?.connections ?? [];
  const chosen =
    all.find((c) => c.name === search.connection) ??
    all.find((c) => c.state === "broken" || c.state === "confirm") ??
    all[0];
  const choose = (name: string) => {
    void navigate({ to: "/connections", search: { connection: name } });
  };
  return (
    <div className="mx-auto max-w-[1240px] px-5 py-4">
      <div className="mb-3 flex items-center justify-between">
        <h1>Connections</h1>
        <AddConnection
          onAdded={(c) => {
            choose(c.name);
          }}
        />
      </div>
      <Trouble error={list.error} />
      {search.trouble && <Trouble error={new Error(consents[search.trouble] ?? consents["other"])} />}
      {reading && <Waiting what="Reading the connections" />}
      {!reading && list.data && all.length === 0 && (
        <Nothing>
          No account is connected yet. Have an application’s key at hand and add it here; it is checked at
          once.
        </Nothing>
      )}
      {!reading && chosen && (
        <div className="grid gap-4 lg:grid-cols-[minmax(380px,5fr)_7fr]">
          <div className="card self-start overflow-hidden">
            <table className="w-full" aria-label="Connections">
              <tbody>
                {all.map((c) => (
                  <tr
                    key={c.name}
                    className={`cursor-pointer border-b border-rule last:border-0 ${c.name === chosen.name ? "bg-tint" : "hover:bg-tint/60"}`}
                    onClick={() => {
                      choose(c.name);
                    }}
                  >
                    <td className="py-2 pr-2 pl-3">
                      <button className="text-left" aria-current={c.name === chosen.name}>
                        <span className="font-semibold">{c.name}</span>
                        {c.name !== c.connector && (
                          <span className="text-second"> · {c.connector_title}</span>
                        )}
                      </button>
                    </td>
                    <td className="pr-2 text-right text-xs text-second whitespace-nowrap">
                      {c.used_by.length > 0 ? plural(c.used_by.length, "workflow") : ""}
                    </td>
                    <td className="w-1 pr-3 text-right">
                      <State c={c} />
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
          <Detail key={chosen.name} c={chosen} />
        </div>
      )}
    </div>
  );
}
