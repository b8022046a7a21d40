import { useRef, useState, type KeyboardEvent, type PointerEvent, type ReactNode } from "react";

/** How narrow each side may become, in pixels. */
const least = { left: 340, right: 420 };
const usual = 0.37;

const kept = (name: string) => {
  const n = Number(localStorage.getItem(`width ${name}`));
  return Number.isFinite(n) && n > 0 ? n : undefined;
};

/** Two parts beside each other, whose share of the width is the reader's: by mouse or by keys, and kept. */
export function Split({ name, left, right }: { name: string; left: ReactNode; right: ReactNode }) {
  const box = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(() => kept(name));
  const bounded = (w: number) => {
    const all = box.current?.clientWidth ?? 1280;
    return Math.round(Math.max(least.left, Math.min(w, all - least.right)));
  };
  const now = () => bounded(width ?? (box.current?.clientWidth ?? 1280) * usual);
  const set = (w: number) => {
    const to = bounded(w);
    setWidth(to);
    try {
      localStorage.setItem(`width ${name}`, String(to));
    } catch {
      // Nothing is kept here.
    }
  };
  const onKey = (e: KeyboardEvent) => {
    const by: Record<string, number> = { ArrowLeft: -24, ArrowRight: 24, PageUp: -120, PageDown: 120 };
    const step = by[e.key];
    if (step !== undefined) set(now() + step);
    else if (e.key === "Home") set(0);
    else if (e.key === "End") set(Number.MAX_SAFE_INTEGER);
    else return;
    e.preventDefault();
  };
  const onMove = (e: PointerEvent) => {
    if (e.buttons !== 1 || !e.currentTarget.hasPointerCapture(e.pointerId)) return;
    set(e.clientX - (box.current?.getBoundingClientRect().left ?? 0));
  };
  return (
    <div
      ref={box}
      className="grid h-full overflow-hidden"
      style={{
        gridTemplateColumns: `${width === undefined ? `minmax(${String(least.left + 40)}px, 37%)` : `min(${String(width)}px, calc(100% - ${String(least.right)}px))`} 0px minmax(0, 1fr)`,
      }}
    >
      {left}
      {/* A separator that can be moved is a control (WAI-ARIA 1.2, window splitter). */}
      {/* eslint-disable-next-line jsx-a11y/no-noninteractive-element-interactions */}
      <div
        role="separator"
        aria-orientation="vertical"
        aria-label={`Width of the ${name}`}
        aria-valuenow={width ?? Math.round(1280 * usual)}
        aria-valuemin={least.left}
        tabIndex={0} // eslint-disable-line jsx-a11y/no-noninteractive-tabindex
        className="relative z-10 -ml-[3px] w-[6px] cursor-col-resize touch-none border-x-[2px] border-transparent hover:bg-leaf focus-visible:bg-leaf"
        onKeyDown={onKey}
        onPointerDown={(e) => {
          e.currentTarget.setPointerCapture(e.pointerId);
          e.preventDefault();
        }}
        onPointerMove={onMove}
        onDoubleClick={() => {
          localStorage.removeItem(`width ${name}`);
          setWidth(undefined);
        }}
      />
      {right}
    </div>
  );
}
