import { describe, expect, it } from "vitest";
import { asQuery } from "./runs";

describe("a filter of runs", () => {
  it("takes days by the reader's clock: from the first moment of one to the last of the other", () => {
    const q = asQuery({ workflow: "loads", from: "2026-11-20", to: "2026-11-30" });
    expect(q).toEqual({
      workflow: "loads",
      from: new Date(2026, 10, 20).toISOString(),
      to: new Date(2026, 11, 1).toISOString(),
    });
    expect(asQuery({ fate: "stopped" })).toEqual({ fate: "stopped" });
  });
});
