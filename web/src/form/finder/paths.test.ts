import { describe, expect, it } from "vitest";
import type { Fields } from "../../api/client";
import { calledOf, distinctWords, fieldsOf, pathOf, searched, waysTo, type Source } from "./paths";
import { suggestions } from "./suggest";

const source = (rows: Fields[], prefix = "item"): Source => ({
  prefix,
  title: "This item",
  rows,
  chosen: rows[0],
});
const orders = source([
  {
    order: "O-1",
    "due day": "2026-11-20",
    total: 12.5,
    paid: false,
    lines: [
      { glaze: "Ash", litres: 2 },
      { glaze: "Slip", litres: 1 },
    ],
    to: { mail: "a@example.org" },
  },
  { order: "O-2", "due day": "", total: 3, paid: null, lines: [], to: { mail: "a@example.org" } },
  {
    order: "O-3",
    "due day": "2026-11-22",
    total: 7,
    paid: true,
    lines: [{ glaze: "Ash", litres: 4 }],
    to: {},
  },
]);
const all = fieldsOf(orders);
const at = (name: string) => all.find((f) => calledOf(f) === name);

describe("fields of items", () => {
  it("are flattened, with their types, how often they are filled in, and how many values they have", () => {
    expect(all.map(calledOf)).toEqual([
      "order",
      "due day",
      "total",
      "paid",
      "lines",
      "lines[].glaze",
      "lines[].litres",
      "to",
      "to.mail",
    ]);
    expect(at("due day")).toMatchObject({ type: "date", filled: 2, of: 3, distinct: 2, value: "2026-11-20" });
    expect(at("total")).toMatchObject({ type: "number", filled: 3 });
    expect(at("paid")).toMatchObject({ type: "yes or no", filled: 2 });
    expect(at("lines[].glaze")).toMatchObject({ type: "text", filled: 2, of: 3, distinct: 2, value: "Ash" });
    expect(distinctWords(at("to.mail")!)).toBe("always the same");
    expect(distinctWords(at("order")!)).toBe("3 values");
    const many = fieldsOf(source(Array.from({ length: 80 }, (_, n) => ({ n }))));
    expect(distinctWords(many[0]!)).toBe("over 50 values");
    expect(fieldsOf(source([{ x: null }, { x: "" }]))[0]).toMatchObject({
      type: "never filled in",
      filled: 0,
    });
  });

  it("are found by name and by value, what is named so first", () => {
    const find = (q: string) => searched(all, q).map(calledOf);
    expect(find("glaze")[0]).toBe("lines[].glaze");
    expect(find("slip")).toEqual(["lines[].glaze"]);
    expect(find("DUE")).toEqual(["due day"]);
    expect(find("mail to")).toEqual(["to.mail", "to"]);
    expect(find("o-3")).toEqual(["order"]);
    expect(find("yes")).toEqual(["paid"]);
    expect(find("nowhere")).toEqual([]);
    expect(find("this")).toEqual([]); // what the source is called says nothing of its fields
    expect(find(" ")).toHaveLength(all.length);
  });

  it("are read by paths that an expression takes", () => {
    expect(pathOf("item", ["a", "b c", "in", "7"])).toBe('item.a["b c"]["in"]["7"]');
    expect(waysTo(at("total")!)).toEqual([{ words: "as it is", expression: "item.total" }]);
    expect(waysTo(at("lines[].glaze")!).map((w) => [w.expression, w.list])).toEqual([
      ["first(item.lines).glaze", undefined],
      ['join(map(item.lines, #.glaze), ", ")', undefined],
      ["item.glaze", "item.lines"],
    ]);
    const plain = fieldsOf(source([{ tags: ["a", "b"], deep: [{ list: [{ x: 1 }] }] }]));
    expect(waysTo(plain.find((f) => calledOf(f) === "tags[]")!).map((w) => w.expression)).toEqual([
      "first(item.tags)",
      'join(item.tags, ", ")',
      "item.value",
    ]);
    expect(waysTo(plain.find((f) => calledOf(f) === "deep[].list[].x")!).map((w) => w.expression)).toEqual([
      "first(item.deep).list",
    ]);
    const earlier = fieldsOf({ ...orders, prefix: "steps.read" }).find(
      (f) => calledOf(f) === "lines[].glaze",
    );
    expect(waysTo(earlier!)).toHaveLength(2); // items of an earlier line are not spread here
  });

  it("are bounded", () => {
    const wide = Object.fromEntries(Array.from({ length: 5000 }, (_, n) => [`f${String(n)}`, n]));
    expect(fieldsOf(source([wide]))).toHaveLength(3000);
    let deep: Fields = { end: 1 };
    for (let i = 0; i < 20; i++) deep = { down: deep };
    expect(fieldsOf(source([deep])).length).toBeLessThan(8);
  });
});

describe("what fits by name and type", () => {
  const found = fieldsOf(
    source([
      {
        number: "+441632960141",
        caller: "Fernhill Pots",
        minutes: 3,
        ended: "2026-11-20T10:00:00Z",
        notes: ["a"],
      },
    ]),
  );
  const want = (name: string, title: string, schema: Fields) => ({
    name,
    required: true,
    schema: { title, ...schema },
  });
  const text = { type: "string" };

  it("is said for the fields that hold nothing, each by a field of its own", () => {
    const got = suggestions(
      [
        want("phone", "Telephone number", text),
        want("name", "Name", text),
        want("minutes", "Minutes", { type: "integer" }),
        want("colour", "Colour", text),
      ],
      {},
      found,
    );
    expect(got.map((s) => [s.name, s.expression])).toEqual([
      ["phone", "(= item.number )"],
      ["name", "(= item.caller )"],
      ["minutes", "(= item.minutes )"],
    ]);
    expect(suggestions([want("minutes", "Minutes", { type: "integer" })], { minutes: 4 }, found)).toEqual([]);
  });

  it("is never of another type", () => {
    expect(suggestions([want("caller", "Caller", { type: "integer" })], {}, found)).toEqual([]);
    expect(suggestions([want("notes", "Notes", text)], {}, found)).toEqual([]);
    expect(
      suggestions([want("ended", "Ended", { type: "string", format: "date-time" })], {}, found),
    ).toHaveLength(1);
  });
});
