import { useVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useRef, type KeyboardEvent } from "react";
import type { Cell, Column, Fate, Row } from "../api/client";
import { plural } from "../ui/words";
import { Mark } from "./marks";
import { bornAt, isGroup, triggerOf } from "./address";
import { fateWords, goesFurther, goesOn, kin, passesBy, trouble } from "./shape";

const HEIGHT = 33; // of a row
const LINE = 25; // of the stem within it
const MARK = 11; // from the column's edge to the mark's centre

export interface Spot {
  row: number; // place among the rows, from 0
  column: number; // -1: the trigger
}

interface Props {
  columns: Column[];
  rows: (Row | undefined)[]; // undefined: not loaded yet
  start: string | undefined; // head of the trigger's column; undefined hides it
  spot: Spot | undefined;
  onSpot: (spot: Spot) => void;
  onOpen?: (spot: Spot) => void;
  need?: (from: number, to: number) => void; // rows that are in sight
  chosen?: string | undefined; // name of a step whose column is lit
}

/** Rows are items, columns are steps, and each item is a stem through them. */
export function Lattice({ columns, rows, start, spot, onSpot, onOpen, need, chosen }: Props) {
  const scroller = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({ count: rows.length, getScrollElement: () => scroller.current, estimateSize: () => HEIGHT, overscan: 12 });
  const items = virtual.getVirtualItems();
  const from = items[0]?.index ?? 0;
  const to = items[items.length - 1]?.index ?? 0;
  useEffect(() => { need?.(from, to); }, [need, from, to]);
  useEffect(() => { if (spot) virtual.scrollToIndex(spot.row, { align: "auto" }); }, [spot, virtual]);
  const first = start === undefined ? 0 : -1;
  const template = `56px ${start === undefined ? "" : "minmax(170px,1.1fr) "}${columns.map((_, i) => (i === 0 && start === undefined ? "minmax(200px,1.3fr)" : "minmax(168px,1fr)")).join(" ")}`;
  const width = 56 + (columns.length - first) * 168;

  const keys = (e: KeyboardEvent) => {
    const at = spot ?? { row: 0, column: first };
    const step = (row: number, column: number) => {
      e.preventDefault();
      onSpot({ row: Math.max(0, Math.min(rows.length - 1, row)), column: Math.max(first, Math.min(columns.length - 1, column)) });
    };
    switch (e.key) {
      case "ArrowDown": step(at.row + 1, at.column); break;
      case "ArrowUp": step(at.row - 1, at.column); break;
      case "ArrowRight": step(at.row, at.column + 1); break;
      case "ArrowLeft": step(at.row, at.column - 1); break;
      case "PageDown": step(at.row + 12, at.column); break;
      case "PageUp": step(at.row - 12, at.column); break;
      case "Home": step(0, at.column); break;
      case "End": step(rows.length - 1, at.column); break;
      case "Enter": onOpen?.(at); break;
      case "n": case "p": {
        const way = e.key === "n" ? 1 : -1;
        for (let i = at.row + way; i >= 0 && i < rows.length; i += way) {
          const c = rows[i]?.cells.findIndex((x) => trouble.includes(x.fate)) ?? -1;
          if (c >= 0) { step(i, c); break; }
        }
      }
    }
  };

  return (
    <div className="card flex min-h-0 flex-col overflow-hidden">
      <div ref={scroller} tabIndex={0} role="grid" aria-label="Items by steps" aria-rowcount={rows.length + 1} aria-colcount={columns.length - first + 1} className="min-h-0 flex-1 overflow-auto focus-visible:outline-offset-[-2px]" onKeyDown={keys}>
        <div style={{ minWidth: width }}>
          <div role="row" className="sticky top-0 z-10 grid border-b border-rule bg-sheet" style={{ gridTemplateColumns: template }}>
            <div role="columnheader" aria-label="Row" className="sticky left-0 z-10 bg-sheet" />
            {start !== undefined && <Head title={start} below="trigger" figures={plural(new Set(rows.flatMap((r) => (r && !isGroup(r.address) ? [triggerOf(r.address)] : []))).size, "item")} lit={false} frozen />}
            {columns.map((c, i) => <Head key={c.name} title={`${c.depth ? `${c.line ?? ""} ` : ""}${c.sentence}`} below={`${c.kind}${c.connection ? ` · ${c.connection}` : ""}`} figures={figures(c)} lit={c.name === chosen} frozen={i === first} />)}
          </div>
          <div style={{ height: virtual.getTotalSize(), position: "relative" }}>
            {items.map((v) => (
              <div key={v.key} role="row" aria-rowindex={v.index + 2} className={`absolute top-0 right-0 left-0 grid border-b border-rule/70 ${spot?.row === v.index ? "bg-tint" : ""}`} style={{ gridTemplateColumns: template, height: HEIGHT, transform: `translateY(${String(v.start)}px)` }}>
                <div role="rowheader" className={`sticky left-0 z-[2] pt-[9px] pr-4 text-right text-xs text-third ${spot?.row === v.index ? "bg-tint" : "bg-sheet"}`}>{rows[v.index]?.row ?? v.index + 1}</div>
                {Array.from({ length: columns.length - first }, (_, i) => i + first).map((c) => (
                  <Stem key={c} rows={rows} at={v.index} column={c} first={first} columns={columns} lit={columns[c]?.name === chosen} current={spot?.row === v.index && spot.column === c} chosenRow={spot?.row === v.index} onChoose={() => { onSpot({ row: v.index, column: c }); onOpen?.({ row: v.index, column: c }); }} />
                ))}
              </div>
            ))}
          </div>
          {rows.length === 0 && <div className="p-6 text-second">No rows yet.</div>}
        </div>
      </div>
    </div>
  );
}

function figures(c: Column): string {
  const flow = c.in === c.out ? String(c.in) : `${String(c.in)} → ${String(c.out)}`;
  const time = c.millis > 0 ? ` · ${c.millis < 1000 ? `${String(c.millis)} ms` : `${(c.millis / 1000).toFixed(1)} s`}` : "";
  return `${flow}${time}${c.units > 0 ? ` · ${plural(c.units, "unit")}` : ""}`;
}

function Head({ title, below, figures: numbers, lit, frozen }: { title: string; below: string; figures: string; lit: boolean; frozen?: boolean }) {
  return (
    <div role="columnheader" className={`flex min-w-0 flex-col justify-end border-l border-rule px-[11px] py-2 ${lit ? "bg-tint" : "bg-sheet"} ${frozen ? "sticky left-[56px] z-10 border-r" : ""}`}>
      <div className="line-clamp-2 leading-tight font-semibold" title={title}>{title}</div>
      <div className="truncate text-xs text-second">{below}</div>
      <div className="truncate text-xs text-second">{numbers}</div>
    </div>
  );
}

interface StemProps {
  rows: (Row | undefined)[];
  at: number;
  column: number;
  first: number;
  columns: Column[];
  lit: boolean;
  current: boolean;
  chosenRow: boolean;
  onChoose: () => void;
}

/** The trigger's cell of a row; one that was made of many did not come from there. */
const startOf = (row: Row): Cell => (isGroup(row.address) ? { fate: "not_reached", text: "" } : { fate: "passed", text: row.address.includes("-") ? `item ${String((triggerOf(row.address) ?? 0) + 1)}` : row.label });

function Stem({ rows, at, column, first, columns, lit, current, chosenRow, onChoose }: StemProps) {
  const row = rows[at];
  const cell = column < 0 ? row && startOf(row) : row?.cells[column];
  const frozen = column === first ? `sticky left-[56px] z-[1] border-r ${lit || chosenRow ? "bg-tint" : "bg-sheet"}` : `relative ${lit ? "bg-tint/70" : ""}`;
  const shell = `${frozen} min-w-0 border-l border-rule/70 text-left ${current ? "shadow-[inset_0_0_0_2px_var(--leaf)]" : ""}`;
  if (!row || !cell || cell.fate === "not_reached") {
    return <div role="gridcell" className={shell} aria-label={row ? "not reached" : "loading"}>{row && passesBy(row, columns, column) && kin(rows, at, columns, column).first && <Rail left={-1} right />}</div>;
  }
  const born = bornAt(row.address, columns); // a loop's own cell stands before what was made within it
  const onward = column >= born && goesOn(cell.fate) && goesFurther(row, column);
  const own = kin(rows, at, columns, column);
  const before = column > first ? kin(rows, at, columns, column - 1) : own;
  const joined = column > first && !before.first; // this item's parent was drawn in a row above
  const divides = onward && !(own.first && own.last); // several rows share this item
  const bad = trouble.includes(cell.fate);
  const words = cell.text;
  return (
    <button role="gridcell" tabIndex={-1} onClick={onChoose} className={`${shell} ${own.first ? "" : "text-third"}`}
      aria-label={`Row ${String(row.row)}, ${row.label}. ${columns[column]?.sentence ?? "Trigger"}: ${fateWords(cell.fate)}${cell.text ? `, ${cell.text}` : ""}`}>
      {own.first && (
        <span className={`absolute top-[5px] right-2 left-[18px] truncate ${bad ? "font-medium text-rust" : cell.fate === "held_back" || cell.fate === "gave_nothing" ? "text-second italic" : cell.fate === "waiting" || cell.fate === "may_have_been_sent" ? "text-amber" : column <= 0 ? "text-ink" : "text-second"}`} title={words}>{words}</span>
      )}
      {column > Math.max(first, born) && !joined && <Rail left={-1} width={MARK + 1} />}
      {column > Math.max(first, born) && joined && own.first && <Rail left={-1} width={MARK + 1} />}
      {onward && !divides && <Rail left={MARK} right />}
      {divides && <Fork first={own.first} last={own.last} />}
      {own.first && <span className="absolute" style={{ left: MARK - 7, top: LINE - 7 }}><Mark fate={cell.fate as Fate} /></span>}
      {own.first && cell.reused && <span className="absolute text-[10px] leading-none text-third" style={{ left: MARK - 3, top: LINE - 16 }} title="from an earlier pass">✓</span>}
    </button>
  );
}

/** A straight piece of stem. */
function Rail({ left, width, right }: { left: number; width?: number; right?: boolean }) {
  return <span className="stem absolute h-[2px] bg-leaf" style={{ left, top: LINE - 1, ...(right ? { right: -1 } : { width }) }} />;
}

/** Where one stem divides into several: a spine down, a curve into each row. */
function Fork({ first, last }: { first: boolean; last: boolean }) {
  return (
    <>
      {first && <span className="stem absolute h-[2px] bg-leaf" style={{ left: MARK, right: 26, top: LINE - 1 }} />}
      <svg className="absolute top-0 -right-px" width="26" height={HEIGHT} viewBox={`0 0 26 ${String(HEIGHT)}`} fill="none" stroke="var(--leaf)" strokeWidth="2" aria-hidden>
        {first && <path d={`M0 ${String(LINE)}H26`} />}
        {first && !last && <path d={`M0 ${String(LINE)}q8 0 8 ${String(HEIGHT - LINE)}`} />}
        {!first && <path d={`M8 -1V${String(LINE - 12)}q0 12 12 12H26`} />}
        {!first && !last && <path d={`M8 -1V${String(HEIGHT + 1)}`} />}
      </svg>
    </>
  );
}

/** The marks that occur, explained. */
export function Legend({ fates }: { fates: Fate[] }) {
  return (
    <div className="flex flex-wrap gap-x-5 gap-y-1 text-xs text-second">
      {fates.filter((f) => f !== "not_reached" && f !== "off").map((f) => <span key={f} className="flex items-center gap-1.5"><Mark fate={f} /> {fateWords(f)}</span>)}
    </div>
  );
}
