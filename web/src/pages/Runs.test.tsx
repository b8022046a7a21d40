// @vitest-environment jsdom
import { cleanup, fireEvent, render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { Schemas } from "../api/client";
import { Runs } from "./Runs";

const older = vi.fn();
const asked: unknown[] = [];
let pages: Schemas["RunPage"][] = [];
let search: Record<string, string> = {};
const went = vi.fn();

vi.mock("@tanstack/react-router", () => ({
  Link: ({ children }: { children: React.ReactNode }) => <a href="/">{children}</a>,
  useSearch: () => search,
  useNavigate: () => (to: { search: Record<string, string> }) => {
    went(to.search);
  },
}));
vi.mock("../api/workflows", () => ({
  useWorkflows: () => ({ data: { workflows: [{ name: "loads", title: "Kiln loads" }] } }),
}));
vi.mock("../api/runs", () => ({
  useRunPages: (filter: unknown) => {
    asked.push(filter);
    return {
      data: { pages },
      error: null,
      isPending: false,
      hasNextPage: pages.at(-1)?.next !== undefined,
      isFetchingNextPage: false,
      fetchNextPage: older,
    };
  },
}));

const run = (id: string, accepted: string, label = ""): Schemas["RunSummary"] =>
  ({
    id,
    label,
    title: "Kiln loads",
    workflow: "loads",
    revision: 1,
    state: "succeeded",
    trigger: "manual",
    began: "by hand",
    accepted,
    ended: accepted,
    counts: {
      in: 3,
      through: 2,
      held_back: 1,
      gave_nothing: 0,
      set_aside: 0,
      stopped: 0,
      may_have_been_sent: 0,
      not_done: 0,
      calls: 0,
      units: 0,
    },
  }) as unknown as Schemas["RunSummary"];

beforeEach(() => {
  asked.length = 0;
  search = {};
});
afterEach(() => {
  cleanup();
  vi.clearAllMocks();
});

describe("the list of runs", () => {
  it("says that nothing has run yet", () => {
    pages = [{ runs: [] }];
    render(<Runs />);
    expect(screen.getByText(/Nothing has run yet/)).toBeTruthy();
  });

  it("puts runs under their days", () => {
    pages = [
      {
        runs: [
          run("1", "2026-03-03T10:00:00", "Ash bowl"),
          run("2", "2026-03-03T09:00:00"),
          run("3", "2026-03-01T09:00:00", "Jug"),
        ],
      },
    ];
    render(<Runs />);
    const days = screen.getAllByRole("columnheader").map((h) => h.textContent);
    expect(days.filter((d) => d.includes("March"))).toHaveLength(2);
    expect(screen.getByText("Ash bowl")).toBeTruthy();
    expect(screen.getAllByText("Kiln loads", { selector: "a" })).toHaveLength(1);
    expect(screen.queryByRole("button", { name: "Older runs" })).toBeNull();
  });

  it("reads older ones when asked", async () => {
    pages = [{ runs: [run("1", "2026-03-03T10:00:00")], next: "1" }];
    render(<Runs />);
    await userEvent.click(screen.getByRole("button", { name: "Older runs" }));
    expect(older).toHaveBeenCalled();
  });

  it("is narrowed by workflow, state, fate and days, which stand in the address", async () => {
    pages = [{ runs: [] }];
    search = { workflow: "loads" };
    render(<Runs />);
    expect(asked.at(-1)).toEqual({ workflow: "loads" });
    expect(screen.getByText("No run fits these.")).toBeTruthy();
    await userEvent.selectOptions(screen.getByLabelText("State"), "failed");
    expect(went).toHaveBeenLastCalledWith({ workflow: "loads", state: "failed" });
    await userEvent.selectOptions(screen.getByLabelText("Fate of an item"), "set aside");
    expect(went).toHaveBeenLastCalledWith({ workflow: "loads", fate: "set_aside" });
    fireEvent.change(screen.getByLabelText("From"), { target: { value: "2026-11-20" } });
    expect(went).toHaveBeenLastCalledWith({ workflow: "loads", from: "2026-11-20" });
    await userEvent.selectOptions(screen.getByLabelText("Workflow"), "All workflows");
    expect(went).toHaveBeenLastCalledWith({});
  });
});
