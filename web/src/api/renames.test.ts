import { describe, expect, it } from "vitest";
import { Renames } from "./renames";

describe("new names", () => {
  const among =
    (...keys: string[]) =>
    (k: string) =>
      keys.includes(k);

  it("are found by the old ones, over several renames", () => {
    const r = new Renames();
    r.did("a", "b");
    r.did("b", "c");
    expect(r.now("a", among("c"))).toBe("c");
    expect(r.now("b", among("c"))).toBe("c");
    expect(r.now("c", among("c"))).toBe("c");
    expect(r.id("c", among("c"))).toBe("a");
  });

  it("do not hide a line that took the old name", () => {
    const r = new Renames();
    r.did("a", "b");
    expect(r.now("a", among("a", "b"))).toBe("a");
    expect(r.id("b", among("a", "b"))).toBe("a");
    expect(r.id("a", among("a", "b"))).toBe("a 2");
    r.did("a", "c");
    expect([r.id("b", among("b", "c")), r.id("c", among("b", "c"))]).toEqual(["a", "a 2"]);
  });

  it("go back", () => {
    const r = new Renames();
    r.did("a", "b");
    r.did("b", "a");
    expect(r.now("a", among("a"))).toBe("a");
    expect(r.now("b", among("a"))).toBe("a");
    expect(r.id("a", among("a"))).toBe("a");
  });

  it("hold for the cases of a step that was renamed", () => {
    const r = new Renames();
    r.did("two", "ways");
    r.did("ways/much", "ways/lots");
    expect(r.now("two/much", among("ways", "ways/lots"))).toBe("ways/lots");
    expect(r.now("none", among("ways"))).toBe("none");
  });
});
