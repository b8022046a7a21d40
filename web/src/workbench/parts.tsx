import type { Finding } from "../api/client";

/** What is wrong, where it stands. */
export function ProblemText({ p }: { p: Finding }) {
  return (
    <div className={`mt-1 ${p.severity === "error" ? "text-rust" : "text-amber"}`}>
      {p.message} {p.cure}
    </div>
  );
}
