// @vitest-environment jsdom
import { cleanup, render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { Dialog } from "radix-ui";
import { afterEach, describe, expect, it, vi } from "vitest";
import { Refusal } from "../api/client";
import { StartForm } from "./StartForm";

vi.mock("../api/samples", () => ({
  useSamples: () => ({
    data: {
      samples: [
        { id: "a", label: "Tenmoku", fields: { glaze: "Tenmoku", cone: 9, note: "as last time" } },
        { id: "b", label: "", fields: { cone: 6 } },
      ],
    },
  }),
}));
afterEach(cleanup);

const fields = [
  { name: "glaze", required: true, schema: { title: "Glaze", type: "string" } },
  { name: "cone", required: false, schema: { title: "Cone", enum: [6, 9] } },
  {
    name: "lines",
    required: false,
    schema: {
      title: "Pots",
      type: "array",
      items: {
        type: "object",
        properties: { what: { title: "What" }, n: { type: "integer", title: "How many" } },
      },
    },
  },
];

function shown(list: typeof fields, error: unknown = null) {
  const onStart = vi.fn();
  render(
    <Dialog.Root open>
      <Dialog.Content aria-describedby={undefined}>
        <Dialog.Title>Start</Dialog.Title>
        <StartForm workflow="lab" fields={list} error={error} busy={false} onStart={onStart} />
      </Dialog.Content>
    </Dialog.Root>,
  );
  return onStart;
}
const start = () => userEvent.click(screen.getByRole("button", { name: "Start" }));

describe("what a run starts with", () => {
  it("is filled in by hand, each field by its control", async () => {
    const onStart = shown(fields);
    await userEvent.type(screen.getByLabelText("Glaze"), "Ash white");
    await userEvent.selectOptions(screen.getByLabelText(/^Cone/), "9");
    await userEvent.type(screen.getByLabelText("What, row 1"), "Jug");
    await userEvent.type(screen.getByLabelText("How many, row 1"), "12");
    await userEvent.click(screen.getByRole("button", { name: "Another row" }));
    await start();
    expect(onStart).toHaveBeenCalledWith({ glaze: "Ash white", cone: 9, lines: [{ what: "Jug", n: 12 }] });
  });

  it("is taken from a sample, with all that the sample holds", async () => {
    const onStart = shown(fields);
    await userEvent.selectOptions(screen.getByLabelText("Fill in from a sample"), "Tenmoku");
    expect(screen.getByLabelText<HTMLInputElement>("Glaze").value).toBe("Tenmoku");
    await userEvent.selectOptions(screen.getByLabelText(/^Cone/), "6");
    await start();
    expect(onStart).toHaveBeenCalledWith({ glaze: "Tenmoku", cone: 6, note: "as last time" });
    expect(screen.getByRole("option", { name: "Sample 2" })).toBeTruthy();
  });

  it("is any item where nothing is asked for", async () => {
    const onStart = shown([]);
    await userEvent.selectOptions(screen.getByLabelText("Fill in from a sample"), "Tenmoku");
    await start();
    expect(onStart).toHaveBeenCalledWith({ glaze: "Tenmoku", cone: 9, note: "as last time" });
  });

  it("has what is wrong beneath the field where it is, and elsewhere what has no field", () => {
    const no = (field: string) =>
      new Refusal(422, "invalid_input", "Some fields are not right.", [
        { field, message: `${field} is wrong.` },
      ]);
    shown(fields, no("lines[0].n"));
    expect(screen.getByText("lines[0].n is wrong.")).toBeTruthy();
    expect(screen.queryByRole("alert")).toBeNull();
    cleanup();
    shown(fields, no("elsewhere"));
    expect(screen.getByRole("alert").textContent).toContain("elsewhere is wrong.");
  });
});
