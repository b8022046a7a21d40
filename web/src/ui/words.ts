import type { Fields, Json, RunSummary } from "../api/client";
import { reasons, states } from "../words/table";

export const plural = (n: number, word: string) => `${n.toLocaleString("en")} ${word}${n === 1 ? "" : "s"}`;

const clock = new Intl.DateTimeFormat(undefined, { hour: "2-digit", minute: "2-digit", second: "2-digit", hour12: false });
const day = new Intl.DateTimeFormat(undefined, { day: "numeric", month: "short", hour: "2-digit", minute: "2-digit", hour12: false });

/** A time in the reader's zone: the clock for today, with the day before that. */
export function when(iso: string): string {
  const t = new Date(iso);
  return t.toDateString() === new Date().toDateString() ? clock.format(t) : day.format(t);
}

export function took(from: string, to: string | undefined): string {
  if (!to) return "";
  const ms = new Date(to).getTime() - new Date(from).getTime();
  if (ms < 1000) return `${String(Math.max(1, Math.round(ms)))} ms`;
  if (ms < 60_000) return `${(ms / 1000).toFixed(1)} s`;
  return `${String(Math.floor(ms / 60_000))} min ${String(Math.round((ms % 60_000) / 1000))} s`;
}

/** A value in one line; nothing, empty text, 0 and false look different. */
export function brief(v: Json | undefined): string {
  if (v === null || v === undefined) return "nothing";
  if (v === "") return "empty text";
  if (typeof v === "string") return v.length > 160 ? `${v.slice(0, 160)}…` : v;
  if (Array.isArray(v)) return `list of ${String(v.length)}`;
  if (typeof v === "object") {
    const parts = Object.entries(v as Fields).slice(0, 3).map(([k, e]) => `${k} ${brief(e)}`);
    return parts.join(", ");
  }
  return String(v);
}

export function stateWords(r: RunSummary): { words: string; tone: "plain" | "leaf" | "amber" | "rust" } {
  switch (r.state) {
    case "partial": {
      const c = r.counts;
      const parts = [c?.set_aside ? `${String(c.set_aside)} set aside` : "", c?.may_have_been_sent ? `${String(c.may_have_been_sent)} may have been sent` : ""].filter(Boolean);
      return { words: `Partial: ${parts.join(", ")}`, tone: "amber" };
    }
    case "waiting": return { words: waitingWords(r), tone: "amber" };
    case "running":
      if (r.cancelling) return { words: "Being cancelled", tone: "amber" };
      return states.running;
    default: return states[r.state];
  }
}

function waitingWords(r: RunSummary): string {
  const text = reasons[r.reason];
  if (text === undefined || (text.includes("{wake}") && !r.wake)) return r.wake ? `Waiting until ${when(r.wake)}` : "Waiting";
  return text.replace("{connection}", r.connection ?? "a connection").replace("{wake}", r.wake ? when(r.wake) : "");
}

/** How often a call was made, and why no more often. */
export function triedWords(f: { tried?: number; over_ms?: number; class?: string; status?: number }): string {
  const tried = f.tried ?? 0;
  if (tried > 1) return `Tried ${String(tried)} times over ${((f.over_ms ?? 0) / 1000).toFixed(1)} s.`;
  if (f.class === "unknown") return "Tried once: it may have had its effect, and a repeat would be a second one.";
  const status = f.status ?? 0;
  if (tried === 1 && status >= 400 && status < 500 && status !== 429 && status !== 408) return "Tried once: a refusal of this kind is not worth repeating.";
  return tried === 1 ? "Tried once." : "Not tried.";
}
