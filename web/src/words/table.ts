// Generated from internal/core/words by make generate. Do not edit.
export type Tone = "plain" | "leaf" | "amber" | "rust";

export const fates = {
  passed: { words: "passed", tone: "leaf" },
  read: { words: "read outside", tone: "leaf" },
  written: { words: "written outside", tone: "leaf" },
  prepared: { words: "prepared, not sent", tone: "leaf" },
  joined: { words: "joined a group", tone: "leaf" },
  held_back: { words: "held back", tone: "plain" },
  gave_nothing: { words: "gave nothing", tone: "plain" },
  set_aside: { words: "set aside", tone: "rust" },
  stopped: { words: "stopped the run", tone: "rust" },
  may_have_been_sent: { words: "may have been sent", tone: "amber" },
  went_on: { words: "went on with nothing", tone: "amber" },
  fell_back: { words: "took the fallback", tone: "amber" },
  ended_run: { words: "ended the run", tone: "plain" },
  waiting: { words: "waiting", tone: "amber" },
  off: { words: "switched off", tone: "plain" },
  not_reached: { words: "not reached", tone: "plain" },
} as const;

export const states = {
  queued: { words: "Queued", tone: "plain" },
  running: { words: "Running", tone: "plain" },
  waiting: { words: "Waiting", tone: "amber" },
  succeeded: { words: "Succeeded", tone: "leaf" },
  partial: { words: "Partial", tone: "amber" },
  failed: { words: "Failed", tone: "rust" },
  cancelled: { words: "Cancelled", tone: "plain" },
} as const;

export const reasons: Record<string, string> = {
  connection_broken: "Waiting for {connection} to be mended",
  job_running: "Waiting for a job of the other side",
  fault_of_ours: "Waiting: something here does not work",
  told_to_wait: "Waiting until {wake}: the other side asked for it",
  unread: "Some of it has not been read yet",
  items_wait: "Waiting until {wake}, as a step says",
  lane: "In line: a run of the same lane comes first",
  place: "In line: as many runs of this workflow are on their way as may be at once",
};

export const consents: Record<string, string> = {
  session: "You are not signed in here any more. Sign in, and begin again from the connection.",
  role: "You are not an administrator here any more. Ask one to sign the connection in.",
  state: "This sign-in was not begun here, was used already, or is older than ten minutes. Begin it again from the connection.",
  denied: "Consent was refused on the other side's page. What the connection had is as it was.",
  answered: "The other side's page did not give consent. Begin again from the connection, or look at the scopes it asks for.",
  no_code: "The other side's page sent no code. Begin again from the connection.",
  issuer: "The answer came from another server than the one that this connection signs in at. Nothing was accepted.",
  refused: "The authorization server did not accept the sign-in. Sign in again; if it happens again, look at the client id and the client secret.",
  away: "The authorization server cannot be reached at the moment. Begin again in a while.",
  other: "The sign-in did not succeed. The service's log says more.",
};
