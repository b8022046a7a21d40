import type { Finding } from "../api/client";

/** What is wrong with a field; what nobody has filled in yet is no mistake. */
export function Problems({ list }: { list: Finding[] }) {
  return list.map((p, i) => (
    <div
      key={i}
      className={`mt-1 ${p.gap ? "text-third" : p.severity === "error" ? "text-rust" : "text-amber"}`}
    >
      {p.gap ? "to fill in" : `${p.message} ${p.cure ?? ""}`}
    </div>
  ));
}
