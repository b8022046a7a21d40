import type { KeyboardEvent } from "react";
import type { Row } from "../api/client";
import type { Shown } from "./columns";
import type { LatticeProps } from "./Lattice";

/** The column that is shown where something is to be mended in a row; undefined while the row is not loaded. */
export function troubleAt(rows: Row[] | undefined, shown: Shown[]): number | undefined {
  const cells = rows?.at(-1)?.cells;
  const bad =
    cells?.findLastIndex((c) => ["set_aside", "stopped", "may_have_been_sent", "went_on"].includes(c.fate)) ??
    -1;
  return cells && (shown.findLast((s) => s.index <= bad) ?? shown[0])?.index;
}

/** Looks for trouble in the next band, or the one before. */
function beyond(grid: HTMLElement, way: 1 | -1) {
  const grids = [...document.querySelectorAll<HTMLElement>("[role=grid]")];
  seek(grids[grids.indexOf(grid) + way], way);
}

/** Goes to trouble in a lattice, wherever the focus was. */
export function seek(grid: HTMLElement | undefined, way: 1 | -1) {
  grid?.focus({ preventScroll: true });
  grid?.dispatchEvent(new window.KeyboardEvent("keydown", { key: way > 0 ? "n" : "p", bubbles: true }));
}

/** Moving about in a band: arrows, ends, pages, and from trouble to trouble, loaded or not. */
export function useKeys(
  { band, lines, rowsOf, spot, onSpot, onEnter, unfold }: LatticeProps,
  shown: Shown[],
  line: number,
) {
  const k = Math.max(
    0,
    shown.findIndex((s) => s.index === spot?.column),
  );
  const go = (to: number, column = shown[k]?.index ?? 0) => {
    const l = lines[Math.max(0, Math.min(lines.length - 1, to))];
    if (l) onSpot({ band, at: l.at, column });
  };
  const trouble = (way: 1 | -1, grid: HTMLElement) => {
    for (let i = line < 0 && way < 0 ? lines.length - 1 : line + way; i >= 0 && i < lines.length; i += way) {
      const l = lines[i];
      if (!l?.trouble) continue;
      const at = troubleAt(rowsOf(l), shown);
      onSpot({
        band,
        at: l.at,
        column: at ?? shown[k]?.index ?? 0,
        ...(at === undefined ? { seeks: true } : {}),
      });
      return;
    }
    beyond(grid, way);
  };
  return (e: KeyboardEvent<HTMLElement>) => {
    if (e.target !== e.currentTarget || e.ctrlKey || e.metaKey || e.altKey) return;
    const act: Record<string, () => void> = {
      ArrowDown: () => {
        go(line + 1);
      },
      ArrowUp: () => {
        go(line < 0 ? 0 : line - 1);
      },
      ArrowRight: () => {
        go(Math.max(0, line), shown[Math.min(shown.length - 1, k + 1)]?.index);
      },
      ArrowLeft: () => {
        go(Math.max(0, line), shown[Math.max(0, k - 1)]?.index);
      },
      PageDown: () => {
        go(line + 12);
      },
      PageUp: () => {
        go(line - 12);
      },
      Home: () => {
        go(0);
      },
      End: () => {
        go(lines.length - 1);
      },
      n: () => {
        trouble(1, e.currentTarget);
      },
      p: () => {
        trouble(-1, e.currentTarget);
      },
      Enter: () => {
        const l = lines[line];
        if (l && l.count > 1) unfold(l);
        else if (spot) onEnter?.(spot);
      },
    };
    if (e.key in act) {
      e.preventDefault();
      act[e.key]?.();
    }
  };
}
