import { describe, expect, it } from "vitest";
import type { RunSummary } from "../api/client";
import {
  brief,
  dayWords,
  plainNumber,
  plural,
  rowWords,
  stateWords,
  took,
  triedWords,
  visible,
} from "./words";

describe("values in one line", () => {
  it("keep nothing, empty text, 0 and false apart", () => {
    expect([null, "", 0, false].map(brief)).toEqual(["nothing", "empty text", "0", "false"]);
  });
  it("say how long a list is and what an object holds", () => {
    expect([brief([1, 2]), brief({ a: 1, b: null, c: "x", d: 4 })]).toEqual([
      "list of 2",
      "a 1, b nothing, c x",
    ]);
  });
  it("cut long text", () => {
    expect(brief("x".repeat(500))).toHaveLength(161);
  });
});

describe("what is not seen", () => {
  it("is made visible", () => {
    expect(["jug\u202etxt", "a\u200bb", "a\u200db", "\u0000\u007f\u0085", "so\u00adft"].map(visible)).toEqual(
      ["jug‹U+202E›txt", "a‹U+200B›b", "a‹U+200D›b", "␀␡‹U+0085›", "so‹U+00AD›ft"],
    );
  });
  it("leaves what people write", () => {
    for (const s of ["kiln", "👩‍🔧 👩‍👩‍👧‍👦 🇵🇹 ❤️", "می\u200cخواهم", "a\nb\tc", "né e\u0301"])
      expect(visible(s)).toBe(s);
  });
  it("cuts between what people see as characters", () => {
    expect(brief("👩‍🔧".repeat(200))).toBe(`${"👩‍🔧".repeat(160)}…`);
  });
});

describe("numbers", () => {
  it("are written as the service writes them", () => {
    expect([1e21, 1.5e-7, -2.5e22, 0.1, 1234567.5, -0, 1e-7, 12].map(plainNumber)).toEqual([
      "1000000000000000000000",
      "0.00000015",
      "-25000000000000000000000",
      "0.1",
      "1234567.5",
      "0",
      "0.0000001",
      "12",
    ]);
  });
  it("keep every digit of a whole one", () => {
    expect(brief(9223372036854775807n)).toBe("9223372036854775807");
  });
});

describe("counts and times", () => {
  it("are pluralised", () => {
    expect([plural(1, "row"), plural(0, "row"), plural(2000, "row")]).toEqual([
      "1 row",
      "0 rows",
      "2,000 rows",
    ]);
  });
  it("use the unit that fits", () => {
    const from = "2026-11-23T10:00:00Z";
    expect(
      ["2026-11-23T10:00:00.014Z", "2026-11-23T10:00:01.4Z", "2026-11-23T10:02:05Z", undefined].map((to) =>
        took(from, to),
      ),
    ).toEqual(["14 ms", "1.4 s", "2 min 5 s", ""]);
  });
});

describe("states in words", () => {
  const run = (r: Partial<RunSummary>): RunSummary => ({
    id: "",
    workflow: "",
    title: "",
    state: "succeeded",
    trigger: "",
    began: "by hand",
    label: "",
    revision: 1,
    pass: 1,
    accepted: "",
    message: "",
    reason: "",
    ...r,
  });
  it("say that a run is being cancelled", () => {
    expect(stateWords(run({ state: "running", cancelling: true })).words).toBe("Being cancelled");
    expect(stateWords(run({ state: "running" })).words).toBe("Running");
  });
  it("say whose fault keeps a run waiting", () => {
    expect(stateWords(run({ state: "waiting", reason: "fault_of_ours" })).words).toContain("something here");
    expect(stateWords(run({ state: "waiting", reason: "job_running" })).words).toContain(
      "a job of the other side",
    );
  });
  it("say what a run waits for", () => {
    expect(
      stateWords(run({ state: "waiting", reason: "connection_broken", connection: "tables" })).words,
    ).toBe("Waiting for tables to be mended");
  });
  it("say how often a call was made, and only what is true of it", () => {
    expect(triedWords({ tried: 3, over_ms: 3210, class: "refused", status: 503 })).toBe(
      "Tried 3 times over 3.2 s.",
    );
    expect(triedWords({ tried: 1, class: "unknown" })).toContain("may have had its effect");
    expect(triedWords({ tried: 1, class: "refused", status: 422 })).toContain("not worth repeating");
    for (const status of [408, 429, 503])
      expect(triedWords({ tried: 1, class: "refused", status })).toBe("Tried once.");
    expect(triedWords({ class: "input" })).toBe("Not tried.");
  });
  it("say what is partial", () => {
    const counts = {
      in: 3,
      through: 1,
      held_back: 0,
      gave_nothing: 0,
      set_aside: 2,
      stopped: 0,
      may_have_been_sent: 1,
      not_done: 0,
      calls: 3,
      units: 0,
    };
    expect(stateWords(run({ state: "partial", counts }))).toEqual({
      words: "Partial: 2 set aside, 1 may have been sent",
      tone: "amber",
    });
  });
  it("name a row that has no label by its number alone", () => {
    expect(rowWords(1, "")).toBe("Row 1");
    expect(rowWords(1, undefined)).toBe("Row 1");
    expect(rowWords(1200, "Ash bowl")).toBe("Row 1,200, Ash bowl");
  });
  it("name the day of a time", () => {
    const now = new Date("2026-11-27T12:00:00");
    expect(dayWords("2026-11-27T00:10:00", now)).toBe("Today, Friday 27 November");
    expect(dayWords("2026-11-26T23:50:00", now)).toBe("Yesterday, Thursday 26 November");
    expect(dayWords("2026-11-02T12:00:00", now)).toBe("Monday 2 November");
    expect(dayWords("2025-12-31T12:00:00", now)).toBe("Wednesday 31 December 2025");
  });
});
