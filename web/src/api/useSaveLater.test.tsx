// @vitest-environment jsdom
import { cleanup, renderHook } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { useSaveLater } from "./useSaveLater";

beforeEach(() => {
  vi.useFakeTimers();
});
afterEach(() => {
  cleanup();
  vi.useRealTimers();
});

describe("a text that is saved as one types", () => {
  it("is saved once, some time after the last stroke", () => {
    const save = vi.fn();
    const { result } = renderHook(() => useSaveLater(save));
    result.current.later("a");
    vi.advanceTimersByTime(400);
    result.current.later("ab");
    vi.advanceTimersByTime(400);
    expect(save).not.toHaveBeenCalled();
    vi.advanceTimersByTime(100);
    expect(save.mock.calls).toEqual([["ab"]]);
  });
  it("is saved at once where the page is left, and not twice", () => {
    const save = vi.fn();
    const { result, unmount } = renderHook(() => useSaveLater(save));
    result.current.later("a");
    unmount();
    expect(save.mock.calls).toEqual([["a"]]);
    vi.advanceTimersByTime(1000);
    expect(save).toHaveBeenCalledTimes(1);
  });
  it("is saved where the tab is closed", () => {
    const save = vi.fn();
    const { result } = renderHook(() => useSaveLater(save));
    result.current.later("a");
    window.dispatchEvent(new Event("pagehide"));
    expect(save.mock.calls).toEqual([["a"]]);
  });
  it("is not saved where nothing was typed", () => {
    const save = vi.fn();
    const { result, unmount } = renderHook(() => useSaveLater(save));
    result.current.flush();
    unmount();
    expect(save).not.toHaveBeenCalled();
  });
});
