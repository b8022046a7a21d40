// @vitest-environment jsdom
import { cleanup, render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, describe, expect, it, vi } from "vitest";
import { Samples } from "./Samples";
import type { Rehearsal } from "../api/client";
import { outcomeOf } from "./samples/outcome";
import { readSamples, sampleRest } from "./sampleWords";

const did = {
  add: vi.fn(),
  change: vi.fn(),
  expect: vi.fn(),
  remove: vi.fn(),
  take: vi.fn(),
  start: vi.fn(),
};
let held: unknown = { samples: [], taking: false, arrived: [] };

vi.mock("../api/samples", () => {
  const mutation = (f: (v: unknown) => void) => ({
    isPending: false,
    error: null,
    mutate: (v: unknown, then?: { onSuccess?: () => void }) => {
      f(v);
      then?.onSuccess?.();
    },
    mutateAsync: (v: unknown) => {
      f(v);
      return Promise.resolve();
    },
  });
  return {
    useSamples: () => ({ data: held }),
    useProfile: () => ({
      data: {
        fields: [
          {
            path: "cone",
            types: ["whole number"],
            filled: 1,
            of: 2,
            distinct: 1,
            spread: "9",
            examples: ["9"],
          },
          { path: "note", types: [], filled: 0, of: 2, distinct: 0, spread: "", examples: [] },
        ],
      },
    }),
    useSampleChanges: () => ({
      add: mutation(did.add),
      change: mutation(did.change),
      expect: mutation(did.expect),
      remove: mutation(did.remove),
      take: mutation(did.take),
    }),
  };
});

vi.mock("../run/useStarts", () => ({
  useStarts: () => ({ begin: did.start, busy: false, error: null, asks: null }),
}));

vi.mock("../api/runs", () => ({
  useRuns: () => ({ data: { runs: [] } }),
  useKeepStart: () => ({ mutate: vi.fn(), error: null }),
}));

afterEach(() => {
  cleanup();
  vi.clearAllMocks();
});

const two = {
  taking: false,
  arrived: [],
  samples: [
    {
      id: "a",
      source: "a real call",
      created: "2026-11-20T10:00:00Z",
      label: "call id c-1",
      fields: { caller: "Fernhill Pots", call_id: "c-1", n: 7 },
    },
    {
      id: "b",
      source: "written",
      created: "2026-11-20T10:00:00Z",
      label: "Ash bowl",
      fields: { name: "Ash bowl", cone: 9 },
    },
  ],
};

describe("samples", () => {
  it("are rows with names", () => {
    held = two;
    render(<Samples workflow="w" called />);
    expect(screen.getByText("call id c-1")).toBeTruthy();
    expect(screen.getByText("caller Fernhill Pots · n 7")).toBeTruthy();
    expect(screen.getByText("Ash bowl")).toBeTruthy();
  });

  it("are edited in place, and stay as they were where it is no JSON", async () => {
    held = two;
    render(<Samples workflow="w" called />);
    await userEvent.click(screen.getByRole("button", { name: "edit sample 2, Ash bowl" }));
    const text = screen.getByLabelText<HTMLTextAreaElement>("Sample 2 as JSON");
    expect(text.value).toContain('"cone": 9');
    await userEvent.clear(text);
    await userEvent.click(text);
    await userEvent.paste('{"name": "Jug"');
    await userEvent.click(screen.getByRole("button", { name: "Keep it" }));
    expect(screen.getByRole("alert").textContent).toContain("This is not JSON yet");
    expect(did.change).not.toHaveBeenCalled();
    await userEvent.click(text);
    await userEvent.paste("}");
    await userEvent.click(screen.getByRole("button", { name: "Keep it" }));
    expect(did.change).toHaveBeenCalledWith({ id: "b", fields: { name: "Jug" } });
    expect(screen.queryByLabelText("Sample 2 as JSON")).toBeNull();
  });

  it("are copied and removed", async () => {
    held = two;
    render(<Samples workflow="w" called />);
    await userEvent.click(screen.getByRole("button", { name: "copy sample 2, Ash bowl" }));
    expect(did.add).toHaveBeenCalledWith({
      fields: { name: "Ash bowl", cone: 9 },
      source: "copied from sample 2",
    });
    await userEvent.click(screen.getByRole("button", { name: "remove sample 1, call id c-1" }));
    expect(did.remove).toHaveBeenCalledWith("a");
  });

  it("are written one by one or pasted as several", async () => {
    held = { samples: [], taking: false, arrived: [] };
    render(<Samples workflow="w" called={false} />);
    expect(screen.getByText(/A start without items/)).toBeTruthy();
    await userEvent.click(screen.getByRole("button", { name: "Write one" }));
    await userEvent.click(screen.getByLabelText("A sample as JSON"));
    await userEvent.paste('{"a": 1}\n{"a": 2}');
    await userEvent.click(screen.getByRole("button", { name: "Keep it" }));
    expect(did.add).toHaveBeenNthCalledWith(1, { fields: { a: 1 } });
    expect(did.add).toHaveBeenNthCalledWith(2, { fields: { a: 2 } });
  });

  it("are taken from the next call, and what was refused is told", async () => {
    held = {
      samples: [],
      taking: true,
      arrived: [
        arrived("d2", "duplicate", "the key has started a run", true),
        arrived("d1", "refused", "its proof is wrong", false),
      ],
    };
    const { rerender } = render(<Samples workflow="w" called />);
    expect(screen.getByRole("status").textContent).toContain("It becomes a sample and starts nothing.");
    expect(screen.getByRole("status").textContent).toContain("Nothing comes? Send a test call above.");
    expect(screen.getByText(/A call was refused, its proof is wrong/)).toBeTruthy();
    expect(screen.queryByRole("button", { name: "Start with it" })).toBeNull();
    rerender(<Samples workflow="w" called live />);
    expect(screen.getByRole("status").textContent).toContain("and its run starts as well");
    await userEvent.click(screen.getByRole("button", { name: "Start with it" }));
    expect(did.start).toHaveBeenCalledExactlyOnceWith({ delivery: "d2" });
    await userEvent.click(screen.getByRole("button", { name: "Take the next call" }));
    expect(did.take).toHaveBeenLastCalledWith("masked");
    await userEvent.click(screen.getByLabelText(/as they came/));
    await userEvent.click(screen.getByRole("button", { name: "Take the next call" }));
    expect(did.take).toHaveBeenLastCalledWith("kept");
    rerender(<Samples workflow="w" called hosted />);
    expect(screen.getByRole("status").textContent).toContain("Open the form at the address above");
    expect(screen.getByRole("button", { name: "Take the next form" })).toBeTruthy();
  });
});

const arrived = (id: string, verdict: string, reason: string, startable: boolean) => ({
  id,
  at: "2026-11-20T10:00:00Z",
  verdict,
  reason,
  startable,
  bytes: 1,
  excerpt: "",
});

describe("what is expected of samples", () => {
  const seen = {
    rows: [
      { address: "0", cells: [{ fate: "held_back", text: "" }] },
      {
        address: "1",
        cells: [
          { fate: "passed", text: "", fields: { cone: 9 } },
          { fate: "not_reached", text: "" },
        ],
      },
    ],
    expected: [
      { sample: 1, differs: [] },
      { sample: 2, differs: ["cone is 9, expected is 10"] },
    ],
  } as unknown as Rehearsal;
  const noted = {
    ...two,
    samples: two.samples.map((s) => ({ ...s, expected: { fate: "passed", fields: { cone: 10 } } })),
  };

  it("is said beside each, and whether it became so", () => {
    held = noted;
    render(<Samples workflow="w" called={false} seen={seen} />);
    expect(screen.getByText("● as expected")).toBeTruthy();
    expect(screen.getByText("▲ cone is 9, expected is 10")).toBeTruthy();
    cleanup();
    render(<Samples workflow="w" called={false} />);
    expect(screen.getAllByText("expected: passed, cone")).toHaveLength(2);
  });

  it("begins as what became of it now, and is noted", async () => {
    held = two;
    render(<Samples workflow="w" called={false} seen={seen} />);
    await userEvent.click(screen.getByRole("button", { name: "say what is expected of sample 2, Ash bowl" }));
    const text = screen.getByLabelText<HTMLTextAreaElement>("What should become of sample 2, as JSON");
    expect(JSON.parse(text.value)).toEqual({ fate: "passed", fields: { cone: 9 } });
    await userEvent.click(screen.getByRole("button", { name: "Keep it" }));
    expect(did.expect).toHaveBeenCalledWith({ id: "b", expected: { fate: "passed", fields: { cone: 9 } } });
    expect(outcomeOf(seen, 0)).toEqual({ fate: "held_back" });
    expect(outcomeOf(undefined, 3)).toEqual({ fate: "passed" });
  });
});

describe("the profile of samples", () => {
  it("opens to every field", async () => {
    held = two;
    render(<Samples workflow="w" called={false} />);
    expect(screen.queryByText("whole number")).toBeNull();
    await userEvent.click(screen.getByRole("button", { name: "Profile of the fields" }));
    expect(screen.getByText("whole number")).toBeTruthy();
    expect(screen.getByText("1 of 2")).toBeTruthy();
    expect(screen.getByText("never filled in")).toBeTruthy();
  });
});

describe("words of samples", () => {
  it("say the rest in a line, without what it is called by", () => {
    expect(sampleRest({ title: "Jug", n: 3 }, "Jug")).toBe("n 3");
    expect(sampleRest({ x: 1, order_id: "O-217" }, "order id O-217")).toBe("x 1");
  });
  it("read what was pasted", () => {
    expect(readSamples('{"a": 1}')).toEqual({ items: [{ a: 1 }] });
    expect(readSamples('[{"a": 1}, {"b": 2}]')).toEqual({ items: [{ a: 1 }, { b: 2 }] });
    expect(readSamples('{"a": 1}\n\n{"a": 2}\n')).toEqual({ items: [{ a: 1 }, { a: 2 }] });
    expect(readSamples("[1]")).toHaveProperty("wrong");
    expect(readSamples("[]")).toHaveProperty("wrong");
    expect(readSamples("7")).toHaveProperty("wrong");
    expect(readSamples("{")).toHaveProperty("wrong");
    expect(readSamples('{"id": 9223372036854775807}')).toEqual({ items: [{ id: 9223372036854775807n }] });
  });
});
