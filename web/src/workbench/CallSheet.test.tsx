// @vitest-environment jsdom
import { asBrowser, No, serve, show } from "../testing/kit";
import { screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import { CallSheet } from "./CallSheet";

asBrowser();

const sheet = {
  address: "http://localhost:7480/hooks/abc",
  verify: "bearer",
  proof: "The secret comes in the header Authorization.",
  secrets: [{ id: "s1", made: "2026-11-20T10:00:00Z", made_by: "Mara Quill" }],
  calls: [{ in: "curl", text: "curl …" }],
  answer: '202 {"run": "…"}',
};

describe("a call sheet", () => {
  it("sends a test call and tells what it was answered", async () => {
    const calls = serve({
      "GET /workflows/w/hook": sheet,
      "POST /workflows/w/hook/test": {
        status: 202,
        said: '{"run": "r1"}',
        sent: "{}",
        run: "01a21fe8-0b5b-76a5-9aa6-4da41bb7bb9a",
      },
    });
    await show(<CallSheet workflow="w" saved={1} />);
    await userEvent.click(await screen.findByRole("button", { name: "Send a test call" }));
    expect((await screen.findByRole("status")).textContent).toContain("Answered 202");
    expect(screen.getByRole("link", { name: "open its run" }).getAttribute("href")).toBe(
      "/runs/01a21fe8-0b5b-76a5-9aa6-4da41bb7bb9a",
    );
    expect(calls.filter((c) => c.method === "POST").map((c) => c.path)).toEqual(["/workflows/w/hook/test"]);
  });

  it("says why a test call cannot be made", async () => {
    serve({
      "GET /workflows/w/hook": sheet,
      "POST /workflows/w/hook/test": new No(409, { type: "no_webhook", title: "Nobody calls it." }),
    });
    await show(<CallSheet workflow="w" saved={1} />);
    await userEvent.click(await screen.findByRole("button", { name: "Send a test call" }));
    expect(await screen.findByText("Nobody calls it.")).toBeTruthy();
  });

  it("waits for a secret before it calls", async () => {
    serve({ "GET /workflows/w/hook": { ...sheet, secrets: [] } });
    await show(<CallSheet workflow="w" saved={1} />);
    expect(await screen.findByRole("button", { name: "Send a test call" })).toHaveProperty("disabled", true);
    expect(screen.getByText(/Make its secret first/)).toBeTruthy();
  });

  it("of a form is where its page is", async () => {
    const form = {
      ...sheet,
      address: "http://localhost:7480/forms/hall-hours",
      verify: "none",
      secrets: [],
      calls: [],
    };
    serve({ "GET /workflows/w/hook": { ...form, page: true, open: true } });
    await show(<CallSheet workflow="w" saved={1} />);
    expect((await screen.findByTestId("form-address")).textContent).toBe(form.address);
    expect(screen.getByRole("link", { name: "Open the form" }).getAttribute("href")).toBe(form.address);
    expect(screen.queryByRole("button", { name: "Send a test call" })).toBeNull();
  });

  it("of a form that is closed says when it can be opened", async () => {
    const form = { ...sheet, verify: "none", secrets: [], calls: [] };
    serve({ "GET /workflows/v/hook": { ...form, page: true, open: false } });
    await show(<CallSheet workflow="v" saved={1} />);
    expect(await screen.findByText(/can be opened once the workflow is live/)).toBeTruthy();
    expect(screen.queryByRole("link")).toBeNull();
  });
});
