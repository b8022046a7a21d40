import { NUMBERS } from "./columns";
import { HEIGHT } from "./stems";

/** One line for all rows that went another way than the one that is looked into. */
export function Others({ list }: { list: { way: string; rows: number }[] }) {
  const sum = list.reduce((n, o) => n + o.rows, 0);
  const ways = list.filter((o) => o.way).map((o) => `${o.way} ${o.rows.toLocaleString("en")}`);
  const away = list.find((o) => !o.way)?.rows ?? 0;
  const words = [
    ways.length > 0 ? `${ways.join(", ")}: on their own ways` : "",
    away > 0 ? `${away.toLocaleString("en")} did not come here` : "",
  ]
    .filter(Boolean)
    .join("; ");
  return (
    <div
      role="row"
      className="relative border-b border-rule/70 text-second italic"
      style={{ height: HEIGHT }}
    >
      <span
        role="rowheader"
        className="inline-block pt-[9px] pr-3 text-right align-top text-xs text-third not-italic"
        style={{ width: NUMBERS }}
      >
        +{sum.toLocaleString("en")}
      </span>
      <span role="gridcell" className="absolute top-[5px] left-[74px]">
        {sum.toLocaleString("en")} {sum === 1 ? "other" : "others"}
        {words && <>; {words}</>}
      </span>
      <svg aria-hidden className="absolute bottom-1 left-0 h-2 w-full" preserveAspectRatio="none">
        {[1, 4, 7].map((y) => (
          <line
            key={y}
            x1={NUMBERS + 11}
            x2="100%"
            y1={y}
            y2={y}
            className="stem"
            stroke="var(--leaf)"
            strokeWidth="1.2"
            opacity=".6"
          />
        ))}
      </svg>
    </div>
  );
}
