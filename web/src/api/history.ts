/** How far one can go back. */
const MOST = 200;

interface Step {
  document: string; // as it was on the other side of the step
  at: number; // the version from which the step can be taken
}

export class ChangedSince extends Error {
  constructor() {
    super("The draft was changed elsewhere since; undoing would lose that.");
  }
}

/** The way back over one's own changes of a draft, and forth again. */
export class History {
  private past: Step[] = [];
  private future: Step[] = [];

  get length() {
    return this.past.length;
  }
  get ahead() {
    return this.future.length;
  }

  /** A change was made: the draft was so before, and has this version now. */
  did(before: string, version: number) {
    this.past = [...this.past.slice(1 - MOST), { document: before, at: version }];
    this.future = [];
  }

  back(version: number | undefined) {
    return step(this.past, version);
  }
  forth(version: number | undefined) {
    return step(this.future, version);
  }

  /** The last change was undone: before that the draft was so, and has this version now. */
  undid(after: string, version: number) {
    turn(this.past, this.future, after, version);
  }
  redid(before: string, version: number) {
    turn(this.future, this.past, before, version);
  }

  /** The steps as text, for the draft as it is now: each as what it changes of the one after. */
  write(document: string): string {
    return JSON.stringify({ past: chain(this.past, document), future: chain(this.future, document) });
  }

  /** Takes the steps up again where the draft is as it was. */
  static read(text: string, document: string, version: number): History {
    const kept = new History();
    try {
      const { past, future } = JSON.parse(text) as { past: Change[]; future: Change[] };
      kept.past = unchained(past, document);
      kept.future = unchained(future, document);
    } catch {
      return new History(); // it was written by another edition of this page
    }
    const last = [kept.past.at(-1), kept.future.at(-1)];
    return last.every((s) => s === undefined || s.at === version) ? kept : new History();
  }
}

/** A document as what stands differently in it than in the next: from a place on, so many characters are another text. */
interface Change {
  at: number;
  from: number;
  length: number;
  text: string;
}

function chain(steps: Step[], document: string): Change[] {
  let next = document;
  return [...steps]
    .reverse()
    .map(({ document: d, at }) => {
      let from = 0;
      while (from < d.length && from < next.length && d[from] === next[from]) from++;
      let end = 0;
      const room = Math.min(d.length, next.length) - from;
      while (end < room && d[d.length - 1 - end] === next[next.length - 1 - end]) end++;
      const c = { at, from, length: next.length - from - end, text: d.slice(from, d.length - end) };
      next = d;
      return c;
    })
    .reverse();
}

function unchained(changes: Change[], document: string): Step[] {
  let next = document;
  return [...changes]
    .reverse()
    .map(({ at, from, length, text }) => {
      next = next.slice(0, from) + text + next.slice(from + length);
      return { document: next, at };
    })
    .reverse();
}

/** What the draft becomes by the next step, which was made at this version and no other. */
function step(steps: Step[], version: number | undefined): string | undefined {
  const next = steps.at(-1);
  if (next && next.at !== version) throw new ChangedSince();
  return next?.document;
}

function turn(from: Step[], to: Step[], document: string, version: number) {
  from.pop();
  to.push({ document, at: version });
  const next = from.at(-1);
  if (next) next.at = version;
}
