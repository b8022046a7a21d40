import { whichOf } from "./address";
import { type Shown, NUMBERS } from "./columns";
import type { LatticeProps } from "./Lattice";
import type { Line } from "./lines";
import { fateWords } from "./shape";
import { HEIGHT, type Spot } from "./stems";
import { plural } from "../ui/words";

interface Props extends LatticeProps {
  id: string;
  line: Line | undefined;
  top: number;
  shown: Shown[];
  lit: string | undefined; // the step whose column is lit
  current: number | undefined; // the chosen column of this line
  spots: Spot[];
}

/** A line of the drawing: its number and the words of its cells. */
export function LatticeRow({
  id,
  line,
  top,
  shown,
  lit,
  current,
  spots,
  rowsOf,
  columns,
  band,
  onSpot,
  onEnter,
  unfold,
  kin,
}: Props) {
  if (!line) return null;
  const rows = rowsOf(line);
  const first = rows?.[0];
  const kindred =
    rows?.some(
      (r) => kin?.has(r.address) || kin?.has(r.into ?? "") || (r.label !== "" && kin?.has(r.label)),
    ) ?? false;
  const tint = current !== undefined || kindred ? "bg-tint" : "";
  const folded = line.count > 1;
  return (
    <div
      role="row"
      aria-rowindex={line.at + 2}
      className={`absolute top-0 left-0 border-b border-rule/70 ${tint}`}
      style={{
        height: HEIGHT,
        transform: `translateY(${String(top)}px)`,
        width: (shown.at(-1)?.left ?? 0) + (shown.at(-1)?.width ?? 0),
      }}
    >
      <div
        role="rowheader"
        className={`sticky left-0 z-[2] inline-block h-full pt-[9px] pr-3 text-right align-top text-xs text-third ${tint || "bg-sheet"}`}
        style={{ width: NUMBERS }}
      >
        {folded ? (
          <button
            tabIndex={-1}
            className="text-leafink hover:underline"
            aria-label={`Show all ${plural(line.count, "row")} that are alike`}
            onClick={() => {
              unfold(line);
            }}
          >
            +{line.count.toLocaleString("en")}
          </button>
        ) : (
          (first?.row ?? line.at + 1).toLocaleString("en")
        )}
      </div>
      {shown.map((s, k) => {
        const spot = spots.find((x) => x.column === k);
        const on = current === s.index;
        const shell = `top-0 h-full border-l border-rule/70 text-left ${k === 0 ? `sticky z-[1] inline-block align-top ${tint || (s.column.name === lit ? "bg-tint" : "bg-sheet")}` : s.column.name === lit ? "absolute bg-tint/60" : "absolute"} ${on ? "shadow-[inset_0_0_0_2px_var(--leaf)] forced-colors:outline-2 forced-colors:outline-[Highlight]" : ""}`;
        const place = { left: k === 0 ? NUMBERS : s.left, width: s.width };
        const key = `${id}-${String(s.index)}`;
        if (!spot)
          return (
            <button
              key={key}
              id={key}
              role="gridcell"
              tabIndex={-1}
              className={shell}
              style={place}
              aria-label={
                first
                  ? `Row ${String(first.row)}, ${first.label}. Not reached: ${s.column.sentence}`
                  : "Loading"
              }
              onClick={() => {
                onSpot({ band, at: line.at, column: s.index });
              }}
            />
          );
        const words =
          folded && k === 0 && spot.row.address === (spot.row.address.split("-")[0] ?? "")
            ? `${line.count.toLocaleString("en")} alike`
            : `${spot.text || (k === 0 ? spot.row.label : "")}${folded && k === (spots[0]?.column === 0 && spot.row.address.includes("-") ? 1 : -1) ? `, and ${(line.count - 1).toLocaleString("en")} alike` : ""}`;
        const choose = () => {
          onSpot({ band, at: line.at, column: s.index });
          onEnter?.({ band, at: line.at, column: s.index });
        };
        return (
          <button
            key={key}
            id={key}
            role="gridcell"
            tabIndex={-1}
            className={shell}
            style={place}
            onClick={choose}
            aria-label={`Row ${String(spot.row.row)}, ${spot.row.label}. ${s.column.sentence}: ${fateWords(spot.fate)}${spot.text ? `, ${spot.text}` : ""}${spot.simulated ? ", from a sample answer" : ""}${folded ? `. ${plural(line.count, "row")} alike` : ""}`}
          >
            {!s.thin && (
              <span
                className={`absolute top-[5px] ${spot.bends ? "right-11" : "right-2"} left-[18px] truncate ${tone(spot, k === 0, folded)}`}
                title={spot.simulated ? `${words}: from a sample answer, nothing was sent` : words}
              >
                {spot.simulated && <span className="text-third">≈ </span>}
                {words}
                {spot.passed > 0 && (
                  <span className="text-third"> · {whichOf(first?.address ?? "", columns, s.index)}</span>
                )}
              </span>
            )}
          </button>
        );
      })}
    </div>
  );
}

function tone(s: Spot, first: boolean, folded: boolean): string {
  switch (s.fate) {
    case "set_aside":
    case "stopped":
      return "font-medium text-rust";
    case "may_have_been_sent":
    case "waiting":
    case "went_on":
    case "fell_back":
      return "font-medium text-amber";
    case "held_back":
    case "gave_nothing":
    case "ended_run":
      return "text-second italic";
    default:
      return folded ? "text-second italic" : first ? "text-ink" : "text-second";
  }
}
