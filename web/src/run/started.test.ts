import { toast } from "sonner";
import { beforeEach, describe, expect, it, vi } from "vitest";
import { tellStarted } from "./started";

vi.mock("sonner", () => ({ toast: vi.fn() }));

describe("a start by hand", () => {
  beforeEach(() => {
    vi.mocked(toast).mockClear();
  });

  it.each([
    [0, "Its key has started this run already; nothing further was started."],
    [3, "3 runs were started; this is the first of them."],
  ])("says so where it gave %i runs", (runs, words) => {
    tellStarted({ run: "r2", runs });
    expect(toast).toHaveBeenCalledExactlyOnceWith(words);
  });

  it("says nothing more of the one run that is shown", () => {
    tellStarted({ run: "r2", runs: 1 });
    expect(toast).not.toHaveBeenCalled();
  });
});
