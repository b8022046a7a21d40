import { useVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useId, useMemo, useRef, useState } from "react";
import type { Column, Row } from "../api/client";
import { placed, seen, type Open, type Shown } from "./columns";
import { HEAD, Heads, type Nests } from "./Heads";
import { LatticeRow } from "./LatticeRow";
import type { Line } from "./lines";
import { Overview } from "./Overview";
import { troubleAt, useKeys } from "./keys";
import { drawn, HEIGHT } from "./stems";
import { Stems } from "./StemLayer";
import { useSize } from "./size";

/** A cell that is looked at. */
export interface Spot {
  seeks?: boolean; // the column where there is trouble, once the row is loaded
  band: string;
  at: number; // the row's place among those that are looked at
  column: number; // among all columns
}

export interface LatticeProps extends Nests {
  band: string;
  title: string; // for screen readers
  columns: Column[];
  range: [number, number]; // the first and last column of the band
  lines: Line[];
  rowsOf: (line: Line) => Row[] | undefined; // undefined: not loaded yet
  need?: ((lines: Line[]) => void) | undefined; // lines that are in sight
  unfold: (line: Line) => void;
  open: Open;
  spot: Spot | undefined;
  onSpot: (spot: Spot) => void;
  onEnter?: ((spot: Spot) => void) | undefined;
  chosen?: string | undefined; // a step whose column is lit
  kin?: ReadonlySet<string> | undefined; // addresses that are lit
  aside?: React.ReactNode; // what stands for rows that are not looked at
}

/** A band of the lattice: rows are items, columns are steps, and each item is a stem through them. */
export function Lattice(props: LatticeProps) {
  const { band, title, columns, range, lines, rowsOf, need, open, spot, chosen } = props;
  const scroller = useRef<HTMLDivElement>(null);
  const { width: room, height } = useSize(scroller);
  const roomy = height > HEAD + 7 * HEIGHT;
  const [folds, setFolds] = useState<ReadonlyMap<string, boolean>>(new Map());
  const id = useId();
  const virtual = useVirtualizer({
    count: lines.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => HEIGHT,
    overscan: 8,
    scrollPaddingEnd: HEAD + (roomy ? 2 * HEIGHT : 0),
    scrollPaddingStart: roomy ? HEIGHT : 0,
  });
  const items = virtual.getVirtualItems();
  const from = items[0]?.index ?? 0;
  const to = items.at(-1)?.index ?? -1;
  const lit = spot?.band === band ? columns[spot.column]?.name : chosen;
  const [least, most] = range;
  const shown = useMemo(
    () => placed(seen(columns, open, least, most), columns, room, lit, folds),
    [columns, open, least, most, room, lit, folds],
  );
  const line = spot?.band === band ? lines.findIndex((l) => spot.at >= l.at && spot.at < l.at + l.count) : -1;
  const drawing = useMemo(
    () => ({
      lines,
      rowsOf: (i: number) => {
        const l = lines[i];
        return l && rowsOf(l);
      },
      columns,
      shown,
      open,
    }),
    [lines, rowsOf, columns, shown, open],
  );
  const { paths, spots } = drawn(drawing, from, to);
  useEffect(() => {
    need?.(lines.slice(Math.max(0, from - 12), to + 13));
  }, [need, lines, from, to]);
  useEffect(() => {
    if (line >= 0) virtual.scrollToIndex(line, { align: "auto" });
  }, [line, virtual, height]);
  // Trouble that was gone to before it was loaded: its column is known now.
  const { onSpot } = props;
  const sought = spot?.seeks && line >= 0 ? troubleAt(lines[line] && rowsOf(lines[line]), shown) : undefined;
  useEffect(() => {
    if (spot?.band === band && sought !== undefined) onSpot({ band, at: spot.at, column: sought });
  }, [spot, sought, band, onSpot]);
  const keys = useKeys(props, shown, line);
  const last = shown.at(-1);
  const width = last ? last.left + last.width : 0;
  const fold = (s: Shown) => {
    setFolds(new Map(folds).set(s.column.name, !s.thin));
  };
  return (
    <div className="flex min-h-0 flex-1 gap-1.5">
      <div
        ref={scroller}
        className="card relative min-h-0 flex-1 overflow-auto"
        style={{ scrollPaddingTop: HEAD, scrollPaddingLeft: (shown[0]?.left ?? 0) + (shown[0]?.width ?? 0) }}
      >
        <div
          role="grid"
          tabIndex={0}
          aria-label={title}
          aria-rowcount={lines.reduce((n, l) => n + l.count, 1)}
          aria-colcount={shown.length + 1}
          aria-activedescendant={
            line >= from && line <= to ? `${id}-${String(line)}-${String(spot?.column ?? 0)}` : undefined
          }
          className="relative focus-visible:outline-offset-[-2px]"
          style={{ minWidth: width }}
          onKeyDown={keys}
          onMouseDown={(e) => {
            if (e.target instanceof Element && e.target.closest("[role=gridcell]")) {
              e.preventDefault();
              e.currentTarget.focus({ preventScroll: true });
            }
          }}
        >
          <Heads {...props} shown={shown} lit={lit} onFold={fold} />
          {props.aside}
          <div className="relative" style={{ height: virtual.getTotalSize() }}>
            {items.map((v) => (
              <LatticeRow
                key={lines[v.index]?.at ?? v.key}
                {...props}
                id={`${id}-${String(v.index)}`}
                line={lines[v.index]}
                top={v.start}
                shown={shown}
                lit={lit}
                current={line === v.index ? spot?.column : undefined}
                spots={spots.filter((s) => s.line === v.index)}
              />
            ))}
            <Stems paths={paths} spots={spots} shown={shown} width={width} height={virtual.getTotalSize()} />
          </div>
          {lines.length === 0 && <div className="p-6 text-second">No rows yet.</div>}
        </div>
      </div>
      <Overview
        lines={lines}
        from={from}
        to={to}
        onGo={(i) => {
          virtual.scrollToIndex(i, { align: "center" });
        }}
      />
    </div>
  );
}
