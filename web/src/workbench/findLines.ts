/** Something that a line can be. */
export interface Offer {
  type: string; // filter, or tables.append
  title: string;
  sentence: string;
  app: string; // "" for what the service does itself
  about: string;
  help: string;
  words: string; // by which people look for it
  fields: string; // titles of what is filled in
  writes: boolean;
  connected: boolean; // an account is there
}

/** Words that say nothing of what is looked for. */
const empty = new Set(
  "a an the to of in on at for from with my our your its it them this that is are be do does i want then and some all into by as me please".split(
    " ",
  ),
);

/** Words of the trade that mean one another. */
const alike = [
  "send write notify tell deliver",
  "mail email e-mail inbox",
  "message text sms",
  "chat channel post",
  "get fetch read retrieve load pull download show list",
  "find search look lookup query locate",
  "add append create insert make new save store log put raise open",
  "change update edit modify set patch",
  "delete remove erase drop clear",
  "row rows record records line lines entry",
  "table tables tab sheet spreadsheet workbook excel grid",
  "contact contacts customer customers person people client studio",
  "file files upload attachment folder",
  "document documents doc docs",
  "calendar event events appointment meeting booking slot schedule",
  "ticket tickets issue support helpdesk",
  "summarise summarize summary shorten",
  "classify categorise categorize label choose",
  "extract parse pull",
  "ai model llm",
  "prompt instructions generate",
  "transcribe speech audio voice dictation recording sound",
  "page website web site url scrape crawl",
  "picture image photo scan ocr",
  "figures figure numbers statistics series data price",
  "supplier suppliers vendor nearby near distance",
  "answer reply respond comment",
  "database db sql postgres",
  "wait pause delay",
  "if when only condition",
  "unique distinct duplicate duplicates dedupe",
];

const groups = new Map<string, Set<string>>();
for (const line of alike) {
  const list = line.split(" ").map(stem);
  for (const w of list) groups.set(w, new Set([...(groups.get(w) ?? []), ...list]));
}

/** A word without its ending, so that rows is row and sending is send. */
export function stem(word: string): string {
  const w = word.toLowerCase();
  if (w.length > 5 && w.endsWith("ing")) return w.slice(0, -3).replace(/([b-df-hj-np-tv-z])\1$/, "$1");
  if (w.length > 4 && w.endsWith("ies")) return `${w.slice(0, -3)}y`;
  if (w.length > 4 && w.endsWith("ed")) return w.slice(0, -2);
  if (w.length > 3 && w.endsWith("s") && !w.endsWith("ss")) return w.slice(0, -1);
  return w;
}

export const wordsOf = (text: string): string[] =>
  text
    .toLowerCase()
    .replace(/[{}]/g, " ")
    .replace(/\bupsert\b/g, "add or change")
    .split(/[^\p{L}\p{N}-]+/u)
    .filter(Boolean)
    .map(stem);

/** How far two words are from one another, up to two mistakes in typing. */
export function mistakes(a: string, b: string): number {
  if (Math.abs(a.length - b.length) > 2) return 3;
  let [before, row] = [[] as number[], Array.from({ length: b.length + 1 }, (_, i) => i)];
  let two: number[] = [];
  for (let i = 1; i <= a.length; i++) {
    [two, before, row] = [before, row, [i]];
    for (let j = 1; j <= b.length; j++) {
      const same = a[i - 1] === b[j - 1];
      let least = Math.min(
        (before[j] ?? 9) + 1,
        (row[j - 1] ?? 9) + 1,
        (before[j - 1] ?? 9) + (same ? 0 : 1),
      );
      if (i > 1 && j > 1 && a[i - 1] === b[j - 2] && a[i - 2] === b[j - 1])
        least = Math.min(least, (two[j - 2] ?? 9) + 1);
      row[j] = least;
    }
  }
  return row[b.length] ?? 9;
}

/** How well a word that was typed fits one of those that stand somewhere: 0 to 1. */
function fits(typed: string, stands: string[]): number {
  let best = 0;
  for (const w of stands) {
    if (w === typed) return 1;
    if (typed.length >= 2 && w.startsWith(typed)) best = Math.max(best, 0.85);
    else if (typed.length >= 4 && mistakes(typed, w) <= (typed.length >= 8 ? 2 : 1))
      best = Math.max(best, 0.6);
  }
  return best;
}

const weights = { title: 4, app: 3.5, words: 3.6, sentence: 2.5, about: 1.2, fields: 1, help: 1 } as const;
type Where = keyof typeof weights;

const read = new WeakMap<Offer, Record<Where, string[]>>();

function textOf(o: Offer): Record<Where, string[]> {
  let found = read.get(o);
  if (!found) {
    found = {
      title: wordsOf(o.title),
      app: wordsOf(o.app),
      words: wordsOf(o.words),
      sentence: wordsOf(o.sentence),
      about: wordsOf(o.about),
      fields: wordsOf(o.fields),
      help: wordsOf(o.help),
    };
    read.set(o, found);
  }
  return found;
}

function scoreOf(o: Offer, typed: string[], all: string[]): number {
  const text = textOf(o);
  let sum = 0;
  let met = 0;
  for (const t of typed) {
    let best = 0;
    const group = groups.get(t);
    for (const where of Object.keys(weights) as Where[]) {
      best = Math.max(best, weights[where] * fits(t, text[where]));
      for (const other of group ?? [])
        if (other !== t && text[where].includes(other)) best = Math.max(best, 0.6 * weights[where]);
    }
    if (best > 0) met++;
    sum += best;
  }
  if (met === 0) return 0;
  sum += pairsOf(o, all) * typed.length;
  // Every word counts, and a title that is said whole counts more than one of which it is a part.
  const covered = met / typed.length;
  const said = text.title.filter((w) => typed.some((t) => t === w || groups.get(t)?.has(w))).length;
  const whole = said / Math.max(3, text.title.length);
  return (sum / typed.length) * covered * covered + whole + (o.connected || o.app === "" ? 0.4 : 0);
}

/** How many pairs of words stand side by side as they were typed. */
function pairsOf(o: Offer, typed: string[]): number {
  const text = textOf(o);
  let n = 0;
  for (let i = 1; i < typed.length; i++)
    for (const where of ["title", "words"] as const)
      if (text[where].some((w, k) => k > 0 && w === typed[i] && text[where][k - 1] === typed[i - 1]))
        n += 0.7;
  return n;
}

/** What fits what was typed, the best first. Nothing typed gives everything, what can be used at once first. */
export function findLines(offers: Offer[], text: string): Offer[] {
  const all = wordsOf(text);
  const typed = all.filter((w) => !empty.has(w) && !/^\d+$/.test(w));
  const asked = typed.length > 0 ? typed : all;
  if (asked.length === 0)
    return [...offers].sort(
      (a, b) => Number(b.connected || b.app === "") - Number(a.connected || a.app === ""),
    );
  return offers
    .map((o, i) => ({ o, i, score: scoreOf(o, asked, all) }))
    .filter((x) => x.score > 0.9)
    .sort((a, b) => b.score - a.score || a.i - b.i)
    .map((x) => x.o);
}

const time =
  /\b(every|each)\s+(\w+\s+)?(minute|hour|day|week|month|morning|evening|night|monday|tuesday|wednesday|thursday|friday|saturday|sunday)s?\b|\b(hourly|daily|weekly|monthly|nightly|schedule|scheduled|cron)\b|\bat \d{1,2}(:\d\d)?\b/i;
const event =
  /^\s*(when|whenever|once)\b.*\b(arrives?|comes?|is|are|gets?|happens?|called|submitted|created|added|changes?)\b/i;

/** Whether a phrase is about what starts the workflow: a time, or something that happens. */
export function startsIt(text: string): "time" | "event" | undefined {
  if (time.test(text)) return "time";
  return event.test(text) ? "event" : undefined;
}

/** Whether a phrase is about what happens when the line above fails. */
export const ifItFails = (text: string) =>
  /\b(if|when|on)\b.*\b(fails?|failed|failure|error|errors|goes wrong)\b|^\s*(fallback|catch|error handling)\s*$/i.test(
    text,
  );
