import { useLayoutEffect, useState, type RefObject } from "react";

/** The room within an element, as it changes. */
export function useSize(element: RefObject<HTMLElement | null>): { width: number; height: number } {
  const [size, setSize] = useState({ width: 900, height: 400 });
  useLayoutEffect(() => {
    const e = element.current;
    if (!e) return;
    const take = () => {
      setSize((s) =>
        s.width === e.clientWidth && s.height === e.clientHeight
          ? s
          : { width: e.clientWidth, height: e.clientHeight },
      );
    };
    const watch = new ResizeObserver(take);
    watch.observe(e);
    take();
    return () => {
      watch.disconnect();
    };
  }, [element]);
  return size;
}
