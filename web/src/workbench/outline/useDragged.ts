import { PointerSensor, useSensor, useSensors, type DragMoveEvent } from "@dnd-kit/core";
import { useState } from "react";
import type { Line } from "../../api/client";
import { dropped, find, over, TOP, TRIGGER } from "../lines";
import type { Lines } from "../useLines";

/** Lines that are moved with the mouse: which one is held, where it would go, and letting go. */
export function useDragged(lines: Line[], does: Lines) {
  const [held, setHeld] = useState<{ key: string; over?: string; half: "upper" | "lower" }>();
  const sensors = useSensors(useSensor(PointerSensor, { activationConstraint: { distance: 6 } }));
  const onMove = (e: DragMoveEvent) => {
    const start = e.activatorEvent as PointerEvent;
    const y = start.clientY + e.delta.y;
    const box = e.over?.rect;
    setHeld({
      key: String(e.active.id),
      half: box && y > box.top + box.height / 2 ? "lower" : "upper",
      ...(e.over ? { over: String(e.over.id) } : {}),
    });
  };
  const drop = () => {
    const place =
      held?.over !== undefined &&
      (held.over === TRIGGER ? { in: TOP, to: 0 } : over(lines, held.over, held.key, held.half));
    setHeld(undefined);
    if (held && place && dropped(lines, held.key, place))
      does.move(held.key, (now) => dropped(now, held.key, place));
  };
  const markOf = (key: string) => {
    if (held?.over !== key || held.key === key) return undefined;
    const place = key === TRIGGER ? { in: TOP, to: 0 } : over(lines, key, held.key, held.half);
    return place && dropped(lines, held.key, place) ? (key === TRIGGER ? "lower" : held.half) : undefined;
  };
  return {
    heldLine: find(lines, held?.key),
    markOf,
    context: {
      sensors,
      onDragStart: (e: { active: { id: string | number } }) => {
        setHeld({ key: String(e.active.id), half: "upper" });
      },
      onDragMove: onMove,
      onDragEnd: drop,
      onDragCancel: () => {
        setHeld(undefined);
      },
    },
  };
}
