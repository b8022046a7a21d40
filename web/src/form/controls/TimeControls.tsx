import type { Json } from "../../api/client";
import { writeJson } from "../../api/exact";
import { ghostOf, readDuration } from "../read";
import { useTyped } from "../useTyped";
import type { ControlProps } from "./props";
import { Wrong } from "./Wrong";

const asText = (v: Json | undefined) => (typeof v === "string" ? v : "");

/** A day. */
export function DateControl({ id, value, onSet }: ControlProps) {
  return (
    <input
      id={id}
      type="date"
      className="field w-44"
      value={asText(value)}
      onChange={(e) => {
        onSet(e.target.value || undefined);
      }}
    />
  );
}

/** A moment, typed on the clocks of whoever types and kept with their offset. */
export function MomentControl({ id, value, onSet }: ControlProps) {
  return (
    <>
      <input
        id={id}
        type="datetime-local"
        className="field w-60"
        value={onClock(asText(value))}
        onChange={(e) => {
          onSet(e.target.value ? withOffset(e.target.value) : undefined);
        }}
      />
      <div className="hint mt-1">On your clock: {Intl.DateTimeFormat().resolvedOptions().timeZone}.</div>
    </>
  );
}

const two = (n: number) => String(n).padStart(2, "0");

/** A moment as the control takes it. */
export function onClock(text: string): string {
  const t = new Date(text);
  if (text === "" || Number.isNaN(t.getTime())) return "";
  return `${String(t.getFullYear())}-${two(t.getMonth() + 1)}-${two(t.getDate())}T${two(t.getHours())}:${two(t.getMinutes())}`;
}

/** What the control gives, with the offset that the clock has then. */
export function withOffset(local: string): string {
  const minutes = -new Date(local).getTimezoneOffset();
  const [sign, away] = [minutes < 0 ? "-" : "+", Math.abs(minutes)];
  return `${local.length === 16 ? `${local}:00` : local}${sign}${two(Math.floor(away / 60))}:${two(away % 60)}`;
}

/** A length of time. */
export function DurationControl({ id, schema, value, onSet }: ControlProps) {
  const typed = useTyped<HTMLInputElement>(value, asText, readDuration, onSet);
  return (
    <>
      <input
        id={id}
        className="field w-44"
        placeholder={ghostOf(schema, writeJson) || "as 10m, 2h, 3d"}
        aria-describedby={typed.wrong ? `${id}-wrong` : undefined}
        {...typed.control}
      />
      <Wrong id={id} text={typed.wrong} />
    </>
  );
}
