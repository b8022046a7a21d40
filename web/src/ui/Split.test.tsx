// @vitest-environment jsdom
import { cleanup, fireEvent, render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, beforeEach, describe, expect, it } from "vitest";
import { Split } from "./Split";

beforeEach(() => {
  localStorage.clear();
  Object.defineProperty(HTMLElement.prototype, "clientWidth", { configurable: true, value: 1280 });
});
afterEach(cleanup);

const shown = () => {
  render(<Split name="outline" left={<p>left</p>} right={<p>right</p>} />);
  return screen.getByRole("separator", { name: "Width of the outline" });
};
const width = () => Number(localStorage.getItem("width outline"));

describe("two parts beside each other", () => {
  it("are moved by keys, within bounds, and stay so", async () => {
    const bar = shown();
    bar.focus();
    await userEvent.keyboard("{ArrowRight}");
    expect(width()).toBe(498);
    await userEvent.keyboard("{ArrowLeft}{ArrowLeft}");
    expect(width()).toBe(450);
    await userEvent.keyboard("{Home}");
    expect(width()).toBe(340);
    await userEvent.keyboard("{End}");
    expect(width()).toBe(860);
    expect(bar.getAttribute("aria-valuenow")).toBe("860");
    cleanup();
    expect(shown().getAttribute("aria-valuenow")).toBe("860");
  });
  it("are as usual again after a double click", () => {
    localStorage.setItem("width outline", "700");
    const bar = shown();
    expect(bar.getAttribute("aria-valuenow")).toBe("700");
    fireEvent.doubleClick(bar);
    expect(localStorage.getItem("width outline")).toBeNull();
  });
  it("take no width that is none", () => {
    localStorage.setItem("width outline", "wide");
    expect(shown().getAttribute("aria-valuenow")).toBe("474");
  });
});
