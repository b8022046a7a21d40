import { Link } from "@tanstack/react-router";
import { useState } from "react";
import type { Connector } from "../api/client";
import { TryAction } from "../connect/TryAction";

/** One action, or two side by side with their answers. */
export function Tries({
  c,
  connections,
  first,
}: {
  c: Connector;
  connections: string[];
  first: string | undefined;
}) {
  const [connection, setConnection] = useState(connections[0] ?? "");
  const [two, setTwo] = useState(false);
  const used = connection || connections[0];
  if (!used)
    return (
      <div className="card p-6 text-second">
        Connect {c.title} first; then an action can be tried with a real account.{" "}
        <Link className="text-leafink underline" to="/connections">
          Connections
        </Link>
      </div>
    );
  return (
    <div>
      <div className="mb-3 flex items-center gap-3">
        {connections.length > 1 ? (
          <select
            aria-label="Connection"
            className="field w-52"
            value={used}
            onChange={(e) => {
              setConnection(e.target.value);
            }}
          >
            {connections.map((n) => (
              <option key={n}>{n}</option>
            ))}
          </select>
        ) : (
          <span className="text-second">
            With the connection <b className="text-ink">{used}</b>
          </span>
        )}
        <button
          className="btn ml-auto"
          aria-pressed={two}
          onClick={() => {
            setTwo(!two);
          }}
        >
          {two ? "One action" : "Compare two"}
        </button>
      </div>
      <div className={`grid gap-4 ${two ? "xl:grid-cols-2" : ""}`}>
        <div className="card p-4">
          <TryAction connector={c} connection={used} {...(first ? { first } : {})} />
        </div>
        {two && (
          <div className="card p-4">
            <TryAction
              connector={c}
              connection={used}
              first={c.actions[1]?.name ?? c.actions[0]?.name ?? ""}
            />
          </div>
        )}
      </div>
    </div>
  );
}
