import type { Line } from "./lines";

const PIECES = 36;

/** Where trouble lies among all lines, and what is in sight of them. */
export function Overview({
  lines,
  from,
  to,
  onGo,
}: {
  lines: Line[];
  from: number;
  to: number;
  onGo: (line: number) => void;
}) {
  if (lines.length <= to - from + 1 && !lines.some((l) => l.trouble)) return null;
  const pieces = Math.min(PIECES, lines.length);
  const per = lines.length / pieces;
  const bad = new Set<number>();
  lines.forEach((l, i) => {
    if (l.trouble) bad.add(Math.floor(i / per));
  });
  return (
    <div
      aria-hidden
      className="flex w-3 shrink-0 cursor-pointer flex-col gap-[3px] overflow-hidden py-2"
      title="Where trouble lies"
      onClick={(e) => {
        const box = e.currentTarget.getBoundingClientRect();
        onGo(Math.floor(((e.clientY - box.top) / box.height) * lines.length));
      }}
    >
      {Array.from({ length: pieces }, (_, i) => {
        const near = i >= Math.floor(from / per) && i <= Math.floor(to / per);
        return (
          <span
            key={i}
            className={`min-h-[2px] flex-1 rounded-sm ${bad.has(i) ? "bg-rust" : near ? "bg-leaf/60" : "bg-rule"}`}
            style={{ maxHeight: 8 }}
          />
        );
      })}
    </div>
  );
}
