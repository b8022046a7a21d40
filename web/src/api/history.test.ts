import { describe, expect, it } from "vitest";
import { ChangedSince, History } from "./history";

describe("the way back", () => {
  it("goes back and forth over several changes", () => {
    const h = new History();
    expect(h.back(1)).toBeUndefined();
    h.did("a", 2); // a → b
    h.did("b", 3); // b → c
    expect(h.back(3)).toBe("b");
    h.undid("c", 4);
    expect(h.back(4)).toBe("a");
    h.undid("b", 5);
    expect(h.back(5)).toBeUndefined();
    expect(h.forth(5)).toBe("b");
    h.redid("a", 6);
    expect(h.forth(6)).toBe("c");
    h.redid("b", 7);
    expect(h.ahead).toBe(0);
    expect(h.back(7)).toBe("b");
  });

  it("forgets what was undone once something else is done", () => {
    const h = new History();
    h.did("a", 2);
    h.undid("b", 3);
    h.did("a", 4);
    expect(h.forth(4)).toBeUndefined();
    expect(h.length).toBe(1);
  });

  it("does not undo over what others changed", () => {
    const h = new History();
    h.did("a", 2);
    expect(() => h.back(3)).toThrow(ChangedSince);
    h.undid("b", 3);
    expect(() => h.forth(9)).toThrow(ChangedSince);
  });

  it("keeps two hundred steps", () => {
    const h = new History();
    for (let i = 0; i < 500; i++) h.did(String(i), i + 1);
    expect(h.length).toBe(200);
    expect(h.back(500)).toBe("499");
  });

  it("is kept over a reload, step by step, for the draft as it was", () => {
    const h = new History();
    const texts = [
      "",
      "title: A\n",
      "title: A\nsteps: []\n",
      "title: AB\nsteps: []\n",
      "title: AB\nsteps:\n  - one\n",
    ];
    texts.slice(1).forEach((_, i) => {
      h.did(texts[i]!, i + 1);
    });
    const now = texts.at(-1)!;
    const again = History.read(h.write(now), now, 4);
    expect(again.length).toBe(4);
    let version = 4;
    let document = now;
    for (const want of texts.slice(0, -1).reverse()) {
      expect(again.back(version)).toBe(want);
      again.undid(document, ++version);
      document = want;
    }
    const back = History.read(again.write(document), document, version);
    expect(back.ahead).toBe(4);
    expect(back.forth(version)).toBe(texts[1]);
    expect(History.read(h.write(now), now, 5).length).toBe(0); // the draft was changed elsewhere
    expect(History.read("{", now, 4).length).toBe(0);
  });

  it("takes little room", () => {
    const long = "x: 1\n".repeat(2000);
    const h = new History();
    for (let v = 1; v <= 200; v++) h.did(`${long}y: ${String(v - 1)}\n`, v);
    expect(h.write(`${long}y: 200\n`).length).toBeLessThan(20_000);
  });
});
