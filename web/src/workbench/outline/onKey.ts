import type { KeyboardEvent } from "react";
import type { Line } from "../../api/client";
import { find, type Direction } from "../lines";
import type { Lines } from "../useLines";
import { parentOf } from "./places";
import type { OutlineState } from "./useOutline";

const keysOf: Record<string, Direction> = {
  ArrowUp: "up",
  ArrowDown: "down",
  ArrowRight: "in",
  ArrowLeft: "out",
};

/** The keys of the outline, on a line. */
export function onKey(
  e: KeyboardEvent,
  key: string,
  outline: OutlineState,
  about: {
    lines: Line[];
    chosen: string | undefined;
    onChoose: (k: string | undefined) => void;
    does: Lines;
  },
) {
  const { keys, focus, fill, beside, doesFor, setAdding, setMenu, setHelp } = outline;
  const { lines, chosen, onChoose, does } = about;
  const n = keys.indexOf(key);
  const l = find(lines, key);
  const go = (to: number) => {
    const k = keys[Math.max(0, Math.min(keys.length - 1, to))];
    if (k !== undefined) focus(k);
  };
  const act = (f: () => void) => {
    e.preventDefault();
    e.stopPropagation();
    f();
  };
  const letter = (e.ctrlKey || e.metaKey) && !e.altKey ? e.key.toLowerCase() : "";
  const direction = keysOf[e.key];
  if (e.altKey && direction) {
    if (l)
      act(() => {
        doesFor(l).shift(direction);
      });
  } else if (letter === "d" && l)
    act(() => {
      does.duplicate(l);
    });
  else if (letter !== "" || e.altKey)
    return; // copying and pasting are events of their own
  else if (e.key === "ArrowDown")
    act(() => {
      go(n + 1);
    });
  else if (e.key === "ArrowUp")
    act(() => {
      go(n - 1);
    });
  else if (e.key === "Home")
    act(() => {
      go(0);
    });
  else if (e.key === "End")
    act(() => {
      go(keys.length - 1);
    });
  else if (e.key === "ArrowRight")
    act(() => {
      if (chosen !== key) onChoose(key);
      else go(n + 1);
    });
  else if (e.key === "ArrowLeft")
    act(() => {
      if (chosen === key) onChoose(undefined);
      else focus(parentOf(lines, l));
    });
  else if (e.key === "Enter")
    act(() => {
      setAdding(key);
    });
  else if (e.key === "F2")
    act(() => {
      fill(key);
    });
  else if (e.key === "Delete" && l)
    act(() => {
      does.remove(l, beside(l));
    });
  else if ((e.key === "ContextMenu" || (e.shiftKey && e.key === "F10")) && l)
    act(() => {
      setMenu(key);
    });
  else if (e.key === "?")
    act(() => {
      setHelp(true);
    });
}
