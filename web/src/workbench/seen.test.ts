import { describe, expect, it } from "vitest";
import type { Workflow } from "../api/client";
import { seenBy } from "./seen";

const workflow = {
  title: "Kiln loads",
  trigger_settings: { key: "item.id" },
  lines: [
    {
      name: "keep",
      kind: "filter",
      settings: { where: "item.x", deep: { a: 1 } },
      options: { on_error: "stop" },
      connection: "tables",
      note: "why",
    },
    { name: "hot", kind: "case", inside: "branch/hot", settings: { when: "item.hot" } },
  ],
} as unknown as Workflow;
const set = (step: string, key: string) => seenBy(workflow, { op: "set", step, key });

describe("what an edit has seen", () => {
  it("is what stands at its place", () => {
    expect(set("keep", "settings.where")).toEqual({ value: "item.x" });
    expect(set("keep", "settings.deep.a")).toEqual({ value: 1 });
    expect(set("keep", "settings.other")).toEqual({});
    expect(set("keep", "connection")).toEqual({ value: "tables" });
    expect(set("keep", "note")).toEqual({ value: "why" });
    expect(set("keep", "off")).toEqual({});
    expect(set("keep", "on_error")).toEqual({ value: "stop" });
    expect(set("branch/hot", "when")).toEqual({ value: "item.hot" });
    expect(seenBy(workflow, { op: "trigger", key: "settings.key" })).toEqual({ value: "item.id" });
    expect(seenBy(workflow, { op: "set", key: "title" })).toEqual({ value: "Kiln loads" });
  });
  it("is not said where it is not known here", () => {
    expect(set("gone", "settings.where")).toBeUndefined();
    expect(set("branch/hot", "name")).toBeUndefined();
    expect(seenBy(workflow, { op: "insert" })).toBeUndefined();
    expect(seenBy(workflow, { op: "set", key: "about" })).toBeUndefined();
  });
});
