import { describe, expect, it } from "vitest";
import type { Connector, Schemas } from "../api/client";
import { findLines, ifItFails, mistakes, startsIt, stem, wordsOf } from "./findLines";
import fixture from "./lines.fixture.json";
import { offersOf } from "./offers";

const shipped = fixture as unknown as { kinds: Schemas["Kind"][]; connectors: Connector[] };
const everything = offersOf(
  shipped.kinds,
  shipped.connectors,
  shipped.connectors.map((c) => ({ connector: c.name })),
);
const best = (text: string, among = everything) =>
  findLines(among, text)
    .slice(0, 3)
    .map((o) => o.type);

describe("a line found by words", () => {
  // What people type, and the line that they want.
  const phrases: [string, string][] = [
    ["send a text", "sms.send"],
    ["text message", "sms.send"],
    ["message text send", "sms.send"],
    ["sms", "sms.send"],
    ["send an email", "mail.send"],
    ["send mail", "mail.send"],
    ["new row", "tables.append"],
    ["add row", "tables.append"],
    ["insert a record in the spreadsheet", "tables.append"],
    ["upsert", "tables.add_or_change"],
    ["add or change a row", "tables.add_or_change"],
    ["update row", "tables.change"],
    ["delete row", "tables.delete"],
    ["read rows", "tables.rows"],
    ["find row", "tables.find"],
    ["for each row", "loop"],
    ["for each", "loop"],
    ["repeat until", "loop"],
    ["wait until", "wait"],
    ["delay", "wait"],
    ["get statistics figures", "statistics.series"],
    ["split the list", "spread"],
    ["one item per element", "spread"],
    ["only if", "filter"],
    ["filter", "filter"],
    ["skip items where", "filter"],
    ["keep some items", "filter"],
    ["call an api", "http"],
    ["http request", "http"],
    ["rest api", "http"],
    ["if else", "branch"],
    ["either or", "branch"],
    ["rename fields", "shape"],
    ["calculate", "shape"],
    ["set fields", "shape"],
    ["remove duplicates", "distinct"],
    ["unique", "distinct"],
    ["sort by date", "sort"],
    ["newest first", "sort"],
    ["top 10", "take"],
    ["random sample", "take"],
    ["group into batches", "batch"],
    ["sum", "gather"],
    ["one report of all", "gather"],
    ["sql query", "sql"],
    ["stop the run", "stop"],
    ["summarise text", "text-model.summarise"],
    ["summarize", "text-model.summarise"],
    ["classify", "text-model.classify"],
    ["ai prompt", "text-model.write"],
    ["extract fields", "text-model.extract"],
    ["ocr", "text-model.read_picture"],
    ["transcribe", "speech.transcribe"],
    ["post in a channel", "team-chat.post"],
    ["chat message", "team-chat.post"],
    ["create ticket", "helpdesk.raise"],
    ["close ticket", "helpdesk.close"],
    ["book appointment", "calendar.book"],
    ["free times", "calendar.free"],
    ["upload file", "files.upload"],
    ["download a file", "files.download"],
    ["append to document", "documents.append"],
    ["create document", "documents.create"],
    ["find or make studio", "contacts.find_or_make"],
    ["scrape page", "pages.fetch"],
    ["suppliers nearby", "suppliers.near"],
    ["raed rows", "tables.rows"], // mistyped
    ["sumarise", "text-model.summarise"],
    ["transcirbe", "speech.transcribe"],
  ];
  for (const [text, want] of phrases)
    it(`“${text}” is ${want}`, () => {
      expect(best(text)[0], best(text).join(", ")).toBe(want);
    });

  it("finds by several words in any order", () => {
    expect(best("row add")[0]).toBe("tables.append");
    expect(best("ticket raise a")[0]).toBe("helpdesk.raise");
  });

  it("offers what is connected before what is not", () => {
    const few = offersOf(shipped.kinds, shipped.connectors, [{ connector: "mail" }]);
    expect(findLines(few, "send")[0]?.type).toBe("mail.send");
    const others = offersOf(shipped.kinds, shipped.connectors, [{ connector: "sms" }]);
    expect(findLines(others, "send")[0]?.type).toBe("sms.send");
  });

  it("gives everything while nothing is typed, and nothing for what nobody does", () => {
    expect(findLines(everything, "")).toHaveLength(everything.length);
    expect(findLines(everything, "the")).not.toHaveLength(0);
    expect(findLines(everything, "xylophone")).toEqual([]);
  });
});

describe("a phrase that is no line", () => {
  it("is about a time", () => {
    for (const text of [
      "every hour",
      "every 5 minutes",
      "each monday",
      "daily",
      "every weekday morning",
      "at 9:00",
      "nightly",
    ])
      expect(startsIt(text), text).toBe("time");
  });
  it("is about something that happens", () => {
    for (const text of ["when a mail arrives", "whenever a form is submitted", "when a row is added"])
      expect(startsIt(text), text).toBe("event");
  });
  it("is about neither", () => {
    for (const text of ["wait an hour", "for each row", "send mail", "only if it is paid", "add a row"])
      expect(startsIt(text), text).toBeUndefined();
  });
  it("is about what fails", () => {
    for (const text of ["if it fails", "on error", "when this step fails", "fallback"])
      expect(ifItFails(text), text).toBe(true);
    for (const text of ["if it is paid", "send failures to the team"])
      expect(ifItFails(text), text).toBe(false);
  });
});

describe("words", () => {
  it("lose their endings", () => {
    expect(["rows", "sending", "stopped", "entries", "running", "is", "class"].map(stem)).toEqual([
      "row",
      "send",
      "stopp",
      "entry",
      "run",
      "is",
      "class",
    ]);
    expect(wordsOf("Add {row} to the Tab, now!")).toEqual(["add", "row", "to", "the", "tab", "now"]);
  });
  it("are compared with mistakes in typing", () => {
    expect(mistakes("row", "row")).toBe(0);
    expect(mistakes("tabel", "table")).toBe(1);
    expect(mistakes("sumarise", "summarise")).toBe(1);
    expect(mistakes("mail", "sms")).toBeGreaterThan(2);
    expect(mistakes("a", "abcd")).toBe(3);
  });
});
