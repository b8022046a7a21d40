import { useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import { asFields, type Connector, type Json, type Schemas } from "../api/client";
import { writeJson } from "../api/exact";
import { Badge } from "../ui/parts";

const kinds: Record<string, string> = {
  string: "text",
  integer: "a whole number",
  number: "a number",
  boolean: "yes or no",
  object: "an object",
  array: "a list",
  null: "nothing",
};
const typeWords = (t: Json | undefined): string =>
  Array.isArray(t) ? t.map(typeWords).join(" or ") : (kinds[String(t ?? "")] ?? "");

const repeats: Record<string, string> = {
  safe: "may be repeated",
  keyed: "a repeat is known by its key",
  unsafe: "would happen twice if repeated",
};

/** An action, readable before it is used. */
export function Action({ c, a }: { c: Connector; a: Schemas["Action"] }) {
  const [open, setOpen] = useState(false);
  const navigate = useNavigate();
  return (
    <div className="card">
      <button
        className="flex w-full items-baseline gap-2.5 px-4 py-2.5 text-left"
        aria-expanded={open}
        onClick={() => {
          setOpen(!open);
        }}
      >
        <span className="font-serif text-[15.5px]">
          {a.sentence.replace(
            /\{([a-z0-9_]+)\}/g,
            (_, n: string) =>
              `‹${String(asFields(a.fields.find((f) => f.name === n)?.schema)["title"] ?? n)}›`,
          )}
        </span>
        <span className="ml-auto flex shrink-0 gap-1.5">
          <Badge tone={a.effect === "write" ? "amber" : "plain"}>
            {a.effect === "write" ? "writes" : "reads"}
          </Badge>
          {a.list && <Badge>a list</Badge>}
          {a.takes_a_while && <Badge>takes a while</Badge>}
        </span>
      </button>
      {open && (
        <div className="border-t border-rule px-4 py-3">
          {a.help && <p className="mb-2">{a.help}</p>}
          <p className="mb-3 text-second">
            {[
              a.method && a.path ? `${a.method} ${a.path}` : "",
              a.units ? `billed ${a.units}` : "",
              a.effect === "write" ? repeats[a.repeat] : "",
              a.proof ? `proof: ${a.proof.join(", ")}` : "",
              a.scopes ? `needs ${a.scopes.join(", ")}` : "",
            ]
              .filter(Boolean)
              .join(" · ")}
          </p>
          <table className="mb-3 w-full">
            <tbody>
              {a.fields.map((f) => {
                const s = asFields(f.schema);
                return (
                  <tr key={f.name} className="border-t border-rule align-top">
                    <td className="w-36 py-1 font-mono text-xs">{f.name}</td>
                    <td className="py-1 pr-2">
                      {String(s["title"] ?? "")}
                      {f.required ? "" : <span className="text-third"> if wished</span>}
                      {s["description"] ? (
                        <span className="text-second">. {String(s["description"])}</span>
                      ) : null}
                    </td>
                    <td className="w-40 py-1 text-second">
                      {[
                        s["choices"] ? "picked by name" : typeWords(s["type"]),
                        s["maxLength"] ? `up to ${Number(s["maxLength"]).toLocaleString("en")}` : "",
                      ]
                        .filter(Boolean)
                        .join(", ")}
                    </td>
                  </tr>
                );
              })}
            </tbody>
          </table>
          {a.sample !== undefined && (
            <details className="mb-2">
              <summary className="cursor-pointer text-second">What comes back, for example</summary>
              <pre className="mt-1 max-h-52 overflow-auto rounded-lg border border-rule p-2.5 font-mono text-xs">
                {writeJson(a.sample, 2)}
              </pre>
            </details>
          )}
          <button
            className="btn"
            onClick={() => {
              void navigate({ to: "/connectors", search: { connector: c.name, try: a.name } });
            }}
          >
            Try it
          </button>
        </div>
      )}
    </div>
  );
}
