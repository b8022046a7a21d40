import { AlertTriangle, Loader2 } from "lucide-react";
import type { ReactNode } from "react";
import { Refusal } from "../api/client";

/** A short state in words. Colour only where something needs care. */
export function Badge({
  tone = "plain",
  children,
}: {
  tone?: "plain" | "leaf" | "amber" | "rust";
  children: ReactNode;
}) {
  const tones = {
    plain: "bg-rule/60 text-second",
    leaf: "bg-tint text-leafink",
    amber: "bg-ambertint text-amber",
    rust: "bg-ambertint text-rust",
  };
  return (
    <span
      className={`inline-flex items-center rounded-full px-2 py-0.5 text-xs font-semibold whitespace-nowrap ${tones[tone]}`}
    >
      {children}
    </span>
  );
}

/** What went wrong, in the service's own words. */
export function Trouble({ error }: { error: unknown }) {
  if (!error) return null;
  const refusal = error instanceof Refusal ? error : undefined;
  return (
    <div role="alert" className="my-2 rounded-lg bg-ambertint px-3 py-2 text-amber">
      <div className="flex gap-2">
        <AlertTriangle size={15} className="mt-0.5 shrink-0" aria-hidden />
        <div className="min-w-0">
          {error instanceof Error ? error.message : "Something went wrong."}
          {refusal?.fields.map((f) => (
            <div key={f.field}>
              {f.field.startsWith("row ") && <span className="font-medium">{f.field}: </span>}
              {f.message}
            </div>
          ))}
          {refusal?.problems.slice(0, 6).map((p, i) => (
            <div key={i}>
              {p.line > 0 ? `Line ${String(p.line)}: ` : ""}
              {p.message} {p.cure}
            </div>
          ))}
        </div>
      </div>
    </div>
  );
}

export function Waiting({ what }: { what: string }) {
  return (
    <div className="flex items-center gap-2 p-6 text-second" role="status">
      <Loader2 size={15} className="animate-spin" aria-hidden /> {what}
    </div>
  );
}

/** Says what a list is for while it has nothing, and what to do next. */
export function Nothing({ children }: { children: ReactNode }) {
  return <div className="card p-8 text-center text-second">{children}</div>;
}
