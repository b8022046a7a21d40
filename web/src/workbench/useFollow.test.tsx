// @vitest-environment jsdom
import { act, cleanup, renderHook } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { Rehearsal, Workflow } from "../api/client";
import type { Edit } from "../api/draft";
import { useFollow } from "./useFollow";

let answers: ((r: Rehearsal) => void)[] = [];
const asked: Edit[][] = [];
vi.mock("../api/workflows", () => ({
  followOf: (_: string, edits: Edit[]) => {
    asked.push(edits);
    return new Promise<Rehearsal>((done) => answers.push(done));
  },
}));
beforeEach(() => {
  vi.useFakeTimers();
  answers = [];
  asked.length = 0;
});
afterEach(() => {
  cleanup();
  vi.useRealTimers();
});

const seen = (made: string, version: number, more: Partial<Rehearsal> = {}): Rehearsal =>
  ({ made, version, columns: [], rows: [], prepared: 0, ...more }) as unknown as Rehearsal;
const draft = (version: number) => ({ name: "loads", version, lines: [] }) as unknown as Workflow;
const set = (value: string): Edit[] => [{ op: "set", step: "a", key: "b", value }];

function follows(version: number, rehearsed: Rehearsal | null) {
  return renderHook(({ w, r }) => useFollow(w, r, undefined), {
    initialProps: { w: draft(version), r: rehearsed },
  });
}
const answer = (r: Rehearsal) =>
  act(async () => {
    answers.shift()?.(r);
    await vi.advanceTimersByTimeAsync(0);
  });

describe("rows of the draft", () => {
  it("are computed once at a time, with what was typed last", async () => {
    const h = follows(3, seen("t1", 3));
    expect(asked).toEqual([]);
    act(() => {
      for (const v of ["x", "xy", "xyz"]) h.result.current.follow(set(v));
    });
    expect(asked).toEqual([set("x")]);
    await answer(seen("t2", 3, { prepared: 1 }));
    expect(asked).toEqual([set("x"), set("xyz")]);
    await answer(seen("t3", 3, { prepared: 2 }));
    expect(h.result.current).toMatchObject({ followed: true, seen: { prepared: 2 } });
  });

  it("follow a draft that was changed elsewhere, and are the rehearsal's own again after one", async () => {
    const h = follows(4, seen("t1", 3));
    expect(asked).toEqual([[]]);
    await answer(seen("t2", 4, { prepared: 5 }));
    expect(h.result.current.seen?.prepared).toBe(5);
    h.rerender({ w: draft(5), r: seen("t1", 3) });
    expect(asked.length).toBe(2);
    h.rerender({ w: draft(5), r: seen("t9", 5) });
    expect(h.result.current).toMatchObject({ followed: false, seen: { made: "t9" } });
    await answer(seen("t3", 4, { prepared: 7 })); // it was computed from the one before
    expect(h.result.current.followed).toBe(false);
  });

  it("wait a little with what ends at an error: the next stroke may mend it", async () => {
    const h = follows(3, seen("t1", 3));
    act(() => {
      h.result.current.follow(set("x"));
    });
    await answer(seen("t2", 3, { until: "a" }));
    expect(h.result.current.followed).toBe(false);
    act(() => {
      h.result.current.follow(set("xy"));
    });
    await answer(seen("t3", 3, { prepared: 1 }));
    expect(h.result.current.seen?.prepared).toBe(1);
    await act(() => vi.advanceTimersByTimeAsync(1000));
    expect(h.result.current.seen?.until).toBeUndefined();
    act(() => {
      h.result.current.follow(set("x"));
    });
    await answer(seen("t4", 3, { until: "a" }));
    await act(() => vi.advanceTimersByTimeAsync(1000));
    expect(h.result.current.seen?.until).toBe("a");
  });

  it("are not asked for where nothing was rehearsed", () => {
    const h = follows(3, null);
    act(() => {
      h.result.current.follow(set("x"));
    });
    expect(asked).toEqual([]);
    expect(h.result.current.seen).toBeUndefined();
  });
});
