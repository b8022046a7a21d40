// @vitest-environment jsdom
import { screen } from "@testing-library/react";
import { describe, expect, it, vi } from "vitest";
import { asBrowser, show } from "../testing/kit";
import { Imported } from "./Imported";

asBrowser();

const read = {
  document: "name: hall",
  name: "hall",
  title: "Kiln hall",
  actions: 2,
  reads: 1,
  writes: 1,
  servers: [],
  sign_in: ["api_key"],
  left_out: [{ what: "GET /b, line 8", why: "a path begins with /" }],
};

describe("what was read of an OpenAPI document", () => {
  it("is added, and says what could not be taken and where that stands", async () => {
    await show(<Imported read={read} onAdded={vi.fn()} />);
    expect(screen.getByRole("button", { name: "Add the connector" })).toBeTruthy();
    expect(screen.getByText("GET /b, line 8")).toBeTruthy();
    expect(screen.queryByText(/is there already/)).toBeNull();
  });
  it("says what another version does otherwise, and for which workflows", async () => {
    const changes = [
      {
        action: "list",
        says: "The field kiln is new, and required.",
        breaks: true,
        workflows: ["kiln-list"],
      },
      { says: "The sign-in bearer is new.", breaks: false, workflows: [] },
    ];
    await show(<Imported read={{ ...read, replaces: 3, changes }} onAdded={vi.fn()} />);
    expect(screen.getByText("Version 3 is there already")).toBeTruthy();
    expect(screen.getByText(/The field kiln is new, and required\. Used by kiln-list\./).className).toContain(
      "amber",
    );
    expect(screen.getByText("The sign-in bearer is new.").className).toBe("");
    expect(screen.getByRole("button", { name: "Add it as version 4" })).toBeTruthy();
  });
  it("says where it does the same", async () => {
    await show(<Imported read={{ ...read, replaces: 1, changes: [] }} onAdded={vi.fn()} />);
    expect(screen.getByText("It does the same.")).toBeTruthy();
  });
});
