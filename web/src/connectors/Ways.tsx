import { Link } from "@tanstack/react-router";
import type { Connector } from "../api/client";

/** How the application is connected, and as what it is. */
export function Ways({ c, connected }: { c: Connector; connected: string[] }) {
  return (
    <div className="card p-4">
      <div className="mb-1.5 flex items-center gap-2">
        <h3 className="font-semibold">To connect it</h3>
        <span className="ml-auto text-second">
          {connected.length > 0 ? (
            <>
              connected as{" "}
              {connected.map((n, i) => (
                <span key={n}>
                  {i > 0 && ", "}
                  <Link className="text-leafink underline" to="/connections" search={{ connection: n }}>
                    {n}
                  </Link>
                </span>
              ))}
            </>
          ) : (
            "not connected yet"
          )}
        </span>
      </div>
      {c.sign_in.map((w) => (
        <div key={w.method} className="mb-1">
          <span className="font-medium">{w.title}</span>
          {w.secrets.length > 0 && (
            <span className="text-second"> asks for {w.secrets.map((s) => s.title).join(", ")}</span>
          )}
          . {w.help}
        </div>
      ))}
    </div>
  );
}
