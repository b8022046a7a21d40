import type { Fields, Json, RunSummary } from "../api/client";
import { reasons, states } from "../words/table";

export const plural = (n: number, word: string) => `${n.toLocaleString("en")} ${word}${n === 1 ? "" : "s"}`;

const clock = new Intl.DateTimeFormat(undefined, {
  hour: "2-digit",
  minute: "2-digit",
  second: "2-digit",
  hour12: false,
});
const day = new Intl.DateTimeFormat(undefined, {
  day: "numeric",
  month: "short",
  hour: "2-digit",
  minute: "2-digit",
  hour12: false,
});

/** A time in the reader's zone: the clock for today, with the day before that. */
export function when(iso: string): string {
  const t = new Date(iso);
  return t.toDateString() === new Date().toDateString() ? clock.format(t) : day.format(t);
}

const dayName = new Intl.DateTimeFormat("en-GB", { weekday: "long", day: "numeric", month: "long" });
const dayOfYear = new Intl.DateTimeFormat("en-GB", {
  weekday: "long",
  day: "numeric",
  month: "long",
  year: "numeric",
});

/** The day of a time in the reader's zone, as Today, Friday 27 November. */
export function dayWords(iso: string, now = new Date()): string {
  const t = new Date(iso);
  const name = (t.getFullYear() === now.getFullYear() ? dayName : dayOfYear).format(t).replaceAll(",", "");
  const before = new Date(now);
  before.setDate(now.getDate() - 1);
  const after = new Date(now);
  after.setDate(now.getDate() + 1);
  if (t.toDateString() === now.toDateString()) return `Today, ${name}`;
  if (t.toDateString() === after.toDateString()) return `Tomorrow, ${name}`;
  return t.toDateString() === before.toDateString() ? `Yesterday, ${name}` : name;
}

/** How the start of a live workflow stands, while nothing happens. */
export function standingWords(s: { words: string; at?: string; why?: string }): string {
  const said = s.at ? `${s.words} ${when(s.at)}` : s.words;
  return s.why ? `${said}: ${s.why}` : said;
}

const short = new Intl.DateTimeFormat("en-GB", { hour: "2-digit", minute: "2-digit" });
const shortDay = new Intl.DateTimeFormat("en-GB", { weekday: "short", day: "numeric", month: "short" });

/** The clock of a time in the reader's zone, to the minute. */
export const clockShort = (iso: string) => short.format(new Date(iso));

/** A day in the reader's zone, as Mon 30 Nov. */
export const dayShort = (iso: string) => shortDay.format(new Date(iso)).replaceAll(",", "");

/** The clock of a time in the reader's zone. */
export const clockWords = (iso: string) => clock.format(new Date(iso));

export function took(from: string, to: string | undefined): string {
  if (!to) return "";
  const ms = new Date(to).getTime() - new Date(from).getTime();
  if (ms < 1000) return `${String(Math.max(1, Math.round(ms)))} ms`;
  if (ms < 60_000) return `${(ms / 1000).toFixed(1)} s`;
  return `${String(Math.floor(ms / 60_000))} min ${String(Math.round((ms % 60_000) / 1000))} s`;
}

const unseen = /[\p{Cf}\u0000-\u0008\u000b-\u001f\u007f-\u009f\u2028\u2029\u034f\u115f\u1160\u3164\uffa0]/u;
const within = /[\u200d\u{e0020}-\u{e007f}]/u; // of one emoji
const joined =
  /[\p{Script=Arabic}\p{Script=Syriac}\p{Script=Mongolian}\p{Script=Devanagari}\p{Script=Bengali}\p{Script=Gurmukhi}\p{Script=Gujarati}\p{Script=Oriya}\p{Script=Tamil}\p{Script=Telugu}\p{Script=Kannada}\p{Script=Malayalam}\p{Script=Sinhala}\p{Script=Khmer}\p{Mn}]/u;
const clusters = new Intl.Segmenter("en", { granularity: "grapheme" });

/** Makes what would move or hide text a sign that is seen, as the service does; joined emoji and letters stay. */
export function visible(text: string): string {
  if (!unseen.test(text)) return text;
  let out = "";
  for (const { segment } of clusters.segment(text)) {
    const picture = /\p{Extended_Pictographic}/u.test(segment);
    let before = "";
    for (const c of segment) {
      const code = c.codePointAt(0) ?? 0;
      const stays =
        !unseen.test(c) ||
        (picture && within.test(c)) ||
        ((c === "\u200d" || c === "\u200c") && joined.test(before));
      out += stays
        ? c
        : code < 0x20
          ? String.fromCodePoint(0x2400 + code)
          : code === 0x7f
            ? "\u2421"
            : `‹U+${code.toString(16).toUpperCase().padStart(4, "0")}›`;
      before = c;
    }
  }
  return out;
}

/** At most so many characters as people see them. */
function shorten(text: string, n: number): string {
  if (text.length <= n) return text;
  let out = "";
  let count = 0;
  for (const { segment } of clusters.segment(text)) {
    if (count++ === n) return `${out}…`;
    out += segment;
  }
  return text;
}

/** A value in one line; nothing, empty text, 0 and false look different. */
export function brief(v: Json | undefined): string {
  if (v === null || v === undefined) return "nothing";
  if (v === "") return "empty text";
  if (typeof v === "string") return visible(shorten(v, 160));
  if (typeof v === "number") return plainNumber(v);
  if (Array.isArray(v)) return `list of ${String(v.length)}`;
  if (typeof v === "object") {
    const parts = Object.entries(v as Fields)
      .slice(0, 3)
      .map(([k, e]) => `${visible(k)} ${brief(e)}`);
    return parts.join(", ");
  }
  return String(v);
}

/** A number as the service writes it: the shortest decimal, never with an exponent. */
export function plainNumber(n: number): string {
  const text = String(n);
  const [digits, exponent] = text.split("e");
  if (digits === undefined || exponent === undefined) return Object.is(n, -0) ? "0" : text;
  const sign = digits.startsWith("-") ? "-" : "";
  const [whole = "", rest = ""] = digits.replace("-", "").split(".");
  const point = whole.length + Number(exponent);
  const all = whole + rest;
  if (point <= 0) return `${sign}0.${"0".repeat(-point)}${all}`;
  return sign + (point >= all.length ? all.padEnd(point, "0") : `${all.slice(0, point)}.${all.slice(point)}`);
}

export function stateWords(r: RunSummary): { words: string; tone: "plain" | "leaf" | "amber" | "rust" } {
  switch (r.state) {
    case "partial": {
      const c = r.counts;
      const parts = [
        c?.set_aside ? `${String(c.set_aside)} set aside` : "",
        c?.may_have_been_sent ? `${String(c.may_have_been_sent)} may have been sent` : "",
      ].filter(Boolean);
      return { words: `Partial: ${parts.join(", ")}`, tone: "amber" };
    }
    case "waiting":
      return { words: waitingWords(r), tone: "amber" };
    case "running":
      if (r.cancelling) return { words: "Being cancelled", tone: "amber" };
      return states.running;
    default:
      return states[r.state];
  }
}

function waitingWords(r: RunSummary): string {
  const text = reasons[r.reason];
  if (text === undefined || (text.includes("{wake}") && !r.wake))
    return r.wake ? `Waiting until ${when(r.wake)}` : "Waiting";
  return text
    .replace("{connection}", r.connection ?? "a connection")
    .replace("{wake}", r.wake ? when(r.wake) : "");
}

/** How often a call was made, and why no more often. */
export function triedWords(f: { tried?: number; over_ms?: number; class?: string; status?: number }): string {
  const tried = f.tried ?? 0;
  if (tried > 1) return `Tried ${String(tried)} times over ${((f.over_ms ?? 0) / 1000).toFixed(1)} s.`;
  if (f.class === "unknown")
    return "Tried once: it may have had its effect, and a repeat would be a second one.";
  const status = f.status ?? 0;
  if (tried === 1 && status >= 400 && status < 500 && status !== 429 && status !== 408)
    return "Tried once: a refusal of this kind is not worth repeating.";
  return tried === 1 ? "Tried once." : "Not tried.";
}

/** A row of a lattice by its number, and by its label where it has one. */
export const rowWords = (n: number, label: string | undefined) =>
  label ? `Row ${n.toLocaleString("en")}, ${label}` : `Row ${n.toLocaleString("en")}`;
