import { describe, expect, it } from "vitest";
import { onClock, withOffset } from "./controls/TimeControls";

describe("a moment", () => {
  it("is typed on the clock of whoever types and kept with its offset", () => {
    const kept = withOffset("2026-07-01T12:30");
    expect(kept).toMatch(/^2026-07-01T12:30:00[+-]\d\d:\d\d$/);
    expect(onClock(kept)).toBe("2026-07-01T12:30");
    expect(new Date(kept).getTime()).toBe(new Date("2026-07-01T12:30").getTime());
  });
  it("is nothing where it cannot be read", () => {
    expect(onClock("")).toBe("");
    expect(onClock("soon")).toBe("");
  });
});
