// @vitest-environment jsdom
import { act, cleanup, renderHook } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { Refusal } from "../api/client";
import type { Edit } from "../api/draft";
import { useGathered } from "./useGathered";

beforeEach(() => {
  vi.useFakeTimers();
  localStorage.clear();
});
afterEach(() => {
  cleanup();
  vi.useRealTimers();
});

type Send = (edits: Edit[]) => Promise<void>;

const set = (key: string, value: string): Edit[] => [{ op: "set", step: "load", key, value }];

function gathered(send = vi.fn<Send>(() => Promise.resolve()), version = 3) {
  const waits = vi.fn();
  const hook = renderHook(({ v }) => useGathered({ name: "loads", version: v }, send, waits), {
    initialProps: { v: version },
  });
  const tick = (ms: number) => act(() => vi.advanceTimersByTimeAsync(ms));
  return { ...hook, send, waits, tick };
}

describe("quick edits", () => {
  it("are one edit of each setting, sent some time after the last; others hear of each", async () => {
    const g = gathered();
    act(() => {
      g.result.current.edit(set("a", "x"));
      g.result.current.edit(set("a", "xy"));
      g.result.current.edit(set("b", "z"));
    });
    expect(g.result.current.unsaved).toBe("soon");
    expect(g.waits.mock.calls.map(([e]) => (e as Edit[]).length)).toEqual([1, 1, 2]);
    await g.tick(350);
    expect(g.send.mock.calls).toEqual([[[...set("a", "xy"), ...set("b", "z")]]]);
    expect(g.result.current.unsaved).toBe("no");
    expect(localStorage.length).toBe(0);
  });

  it("are sent again until the service can be reached, the newest of each setting", async () => {
    let away = true;
    const send = vi.fn<Send>(() =>
      away ? Promise.reject(new Refusal(0, "away", "The service cannot be reached.")) : Promise.resolve(),
    );
    const g = gathered(send);
    act(() => {
      g.result.current.edit(set("a", "x"));
    });
    await g.tick(350);
    expect(g.result.current.unsaved).toBe("away");
    act(() => {
      g.result.current.edit(set("a", "y"));
    });
    away = false;
    await g.tick(350);
    expect(send.mock.lastCall?.[0]).toEqual(set("a", "y"));
    expect(g.result.current.unsaved).toBe("no");
    await g.tick(5000);
    expect(send).toHaveBeenCalledTimes(2);
  });

  it("are not sent again where they were refused", async () => {
    const g = gathered(vi.fn<Send>(() => Promise.reject(new Refusal(422, "invalid_edit", "no"))));
    act(() => {
      g.result.current.edit(set("a", "x"));
    });
    await g.tick(10_000);
    expect(g.send).toHaveBeenCalledTimes(1);
    expect(localStorage.length).toBe(0);
  });

  it("are kept over a closed tab, for the draft that they were made on", async () => {
    const never = vi.fn<Send>(() => new Promise<void>(() => undefined));
    const closed = gathered(never);
    act(() => {
      closed.result.current.edit(set("a", "x"));
    });
    window.dispatchEvent(new Event("pagehide"));
    expect(never).toHaveBeenCalledTimes(1);
    closed.unmount();
    const again = gathered();
    await again.tick(350);
    expect(again.send.mock.calls).toEqual([[set("a", "x")]]);
    again.unmount();

    const other = gathered(never);
    act(() => {
      other.result.current.edit(set("a", "x"));
    });
    other.unmount();
    const newer = gathered(undefined, 4);
    await newer.tick(1000);
    expect(newer.send).not.toHaveBeenCalled();
  });

  it("are sent at once where the page is left", () => {
    const g = gathered();
    act(() => {
      g.result.current.edit(set("a", "x"));
    });
    g.unmount();
    expect(g.send).toHaveBeenCalledTimes(1);
  });
});
