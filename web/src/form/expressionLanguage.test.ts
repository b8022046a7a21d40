// @vitest-environment jsdom
import { type Completion, CompletionContext } from "@codemirror/autocomplete";
import { EditorState } from "@codemirror/state";
import { describe, expect, it } from "vitest";
import type { Schemas } from "../api/client";
import { complete } from "./expressionLanguage";

const duty = {
  name: "on-duty",
  title: "On duty",
  columns: [
    { name: "short", type: "text" },
    { name: "phone", title: "Phone", type: "text" },
  ],
} as unknown as Schemas["WorkspaceList"];

const known = {
  item: { piece: "Ash bowl", lots: { kg: 3 } },
  trigger: undefined,
  steps: ["dry"],
  functions: [],
  lists: [duty],
};

/** What is offered at the end of a text, and what the first would make of it. */
function offered(text: string, explicit = false) {
  const c = complete(new CompletionContext(EditorState.create({ doc: text }), text.length, explicit), known);
  const options: Completion[] = c?.options ?? [];
  const apply = options[0]?.apply ?? options[0]?.label;
  return {
    labels: options.map((o) => o.label),
    made: c && typeof apply === "string" ? text.slice(0, c.from) + apply : undefined,
  };
}

describe("what an expression can go on with", () => {
  it("is a list, by its name", () => {
    expect(offered("li").labels).toContain('list("on-duty")');
    expect(offered('(= find(list("').made).toBe('(= find(list("on-duty")');
    expect(offered("list('on").made).toBe("list('on-duty')");
  });

  it("is a column where the rows of a list are gone through", () => {
    expect(offered('find(list("on-duty"), .').labels).toEqual(["short", "phone"]);
    expect(offered('find(list("on-duty"), .ph').made).toBe('find(list("on-duty"), .short');
    expect(offered('any(list("on-duty"), #.').labels).toEqual(["short", "phone"]);
    expect(offered('find(list("gone"), .').labels).toEqual([]);
  });

  it("is a field of the item all the same", () => {
    expect(offered('find(list("on-duty"), .short == item.').labels).toEqual(["piece", "lots"]);
    expect(offered("item.lots.").labels).toEqual(["kg"]);
    expect(offered("steps.").labels).toEqual(["dry"]);
  });
});
