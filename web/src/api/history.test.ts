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
    expect(h.canRedo).toBe(false);
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
});
