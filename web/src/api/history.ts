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
  get canRedo() {
    return this.future.length > 0;
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
