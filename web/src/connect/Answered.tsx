import { useState } from "react";
import { asFields, type Fields, type Schemas } from "../api/client";
import { readJson, writeJson } from "../api/exact";
import { FieldList } from "../lattice/FieldList";
import { Badge } from "../ui/parts";
import { brief } from "../ui/words";
import { Guarded } from "./Guarded";

type Tried = Schemas["Tried"];

/** What was sent, and what came back; where the address was not called, it can be allowed and tried again. */
export function Answered({ t, again }: { t: Tried; again: () => void }) {
  const [raw, setRaw] = useState(false);
  const items = (t.items ?? []).map(asFields);
  return (
    <div className="space-y-3">
      <div>
        <h3 className="mb-1 font-semibold">
          {t.sent.prepared ? "Would be sent" : t.sent.guarded ? "Not sent" : "Sent"}
        </h3>
        <div className="rounded-lg border border-rule p-2.5 font-mono text-xs">
          <div className="break-all">
            <b>{t.sent.method}</b> {t.sent.url}
          </div>
          {t.sent.body && (
            <pre className="mt-1.5 max-h-40 overflow-auto whitespace-pre-wrap">{pretty(t.sent.body)}</pre>
          )}
        </div>
      </div>
      {!t.sent.prepared && (
        <div>
          <div className="mb-1 flex flex-wrap items-center gap-2">
            <h3 className="font-semibold">Came back</h3>
            {t.why ? (
              <Badge tone="rust">{t.status ? `refused, ${String(t.status)}` : "failed"}</Badge>
            ) : (
              <Badge tone="leaf">{String(t.status ?? "done")}</Badge>
            )}
            <span className="text-xs text-second">
              {[
                t.took_ms ? `${String(t.took_ms)} ms` : "",
                t.type ?? "",
                t.bytes !== undefined ? `${t.bytes.toLocaleString("en")} bytes` : "",
                t.units ? `billed ${String(t.units)}` : "",
                t.left ?? "",
              ]
                .filter(Boolean)
                .join(" · ")}
            </span>
            {!t.why && (
              <button
                className="ml-auto text-xs text-second hover:underline"
                onClick={() => {
                  setRaw(!raw);
                }}
              >
                {raw ? "as fields" : "as JSON"}
              </button>
            )}
          </div>
          {t.why && <div className="mb-2 rounded-lg bg-ambertint px-3 py-2 text-amber">{t.why}</div>}
          {t.sent.guarded && <Guarded address={t.sent.guarded} then="try again" onAllowed={again} />}
          {!t.why && raw && (
            <pre className="max-h-96 overflow-auto rounded-lg border border-rule p-2.5 font-mono text-xs">
              {writeJson(t.items ?? t.output, 2)}
            </pre>
          )}
          {!t.why &&
            !raw &&
            t.items &&
            (items.length === 0 ? (
              <div className="text-second">The list is empty.</div>
            ) : (
              <Rows items={items} more={t.more === true} />
            ))}
          {!t.why &&
            !raw &&
            !t.items &&
            (t.output && typeof t.output === "object" && !Array.isArray(t.output) ? (
              <div className="rounded-lg border border-rule p-3">
                <FieldList fields={asFields(t.output)} />
              </div>
            ) : (
              <pre className="rounded-lg border border-rule p-2.5 whitespace-pre-wrap">
                {brief(t.output as string)}
              </pre>
            ))}
          {t.link && (
            <a
              className="mt-2 inline-block text-leafink underline"
              href={t.link}
              target="_blank"
              rel="noreferrer noopener"
            >
              Open the record in the application
            </a>
          )}
        </div>
      )}
    </div>
  );
}

function pretty(body: string): string {
  try {
    return writeJson(readJson(body), 2);
  } catch {
    return body;
  }
}

/** Items as rows: the first fields of each. */
export function Rows({ items, more }: { items: Fields[]; more: boolean }) {
  const deep = (n: string) => items.some((i) => i[n] !== null && typeof i[n] === "object");
  const names = [...new Set(items.flatMap((i) => Object.keys(i)))]
    .sort((a, b) => Number(deep(a)) - Number(deep(b)))
    .slice(0, 7);
  return (
    <div className="overflow-auto rounded-lg border border-rule">
      <table className="w-full">
        <thead>
          <tr className="border-b border-rule text-left text-xs text-second">
            <th className="px-2 py-1.5 font-medium">#</th>
            {names.map((n) => (
              <th key={n} className="px-2 font-medium whitespace-nowrap">
                {n}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {items.map((item, i) => (
            <tr key={i} className="border-b border-rule last:border-0">
              <td className="px-2 py-1 text-third">{i + 1}</td>
              {names.map((n) => (
                <td key={n} className="max-w-52 truncate px-2" title={brief(item[n])}>
                  {brief(item[n])}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
      {more && (
        <div className="border-t border-rule px-2 py-1.5 text-xs text-second">
          There are more; a workflow reads them all.
        </div>
      )}
    </div>
  );
}
