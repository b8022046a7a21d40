// @vitest-environment jsdom
import { asBrowser, No, serve, show } from "../testing/kit";
import { screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it, vi } from "vitest";
import type { Connection, Connector } from "../api/client";
import { SignInForm } from "./SignInForm";
import { CellBeside } from "../workbench/CellBeside";
import { ToDecide } from "./ToDecide";
import { TryAction } from "./TryAction";

asBrowser();

const guarded = {
  name: "tables",
  state: "unchecked",
  words: "Could not be checked",
  guarded: "127.0.0.1:35213",
} as unknown as Connection;

const me = (role: string) => ({
  name: "Wren Ashdown",
  email: "wren@ottermere.example",
  role,
  workspace: "Clayworks",
});

describe("an address that is not public", () => {
  it("is allowed where it is met, beside those that are, and checked again", async () => {
    const calls = serve({
      "GET /session": me("owner"),
      "GET /allowances": { addresses: ["10.0.0.5:80"] },
      "PUT /allowances": { addresses: [] },
      "POST /connections/tables/check": { ...guarded, state: "ok", words: "Works" },
    });
    await show(<ToDecide c={guarded} />);
    await userEvent.click(await screen.findByRole("button", { name: "Allow it and check again" }));
    await waitFor(() => {
      expect(calls.map((c) => `${c.method} ${c.path}`)).toContain("POST /connections/tables/check");
    });
    expect(calls.find((c) => c.method === "PUT")?.body).toEqual({
      addresses: ["10.0.0.5:80", "127.0.0.1:35213"],
    });
  });

  it("is not checked where it could not be allowed, and the reason is told", async () => {
    const calls = serve({
      "GET /session": me("administrator"),
      "GET /allowances": { addresses: [] },
      "PUT /allowances": new No(403, { type: "forbidden", title: "Your role was changed." }),
    });
    await show(<ToDecide c={guarded} />);
    await userEvent.click(await screen.findByRole("button", { name: "Allow it and check again" }));
    expect(await screen.findByText(/Your role was changed/)).toBeTruthy();
    expect(calls.some((c) => c.path.endsWith("/check"))).toBe(false);
  });

  it("is told of a name that it may be mistyped", async () => {
    serve({ "GET /session": me("owner") });
    await show(<ToDecide c={{ ...guarded, guarded: "kilnhall.ottermere.example:443" }} />);
    expect(await screen.findByText(/or its name is mistyped/)).toBeTruthy();
    expect(screen.queryByText(/or to this machine/)).toBeNull();
  });

  it("says to a builder who was asked, without a button that would be refused", async () => {
    serve({ "GET /session": me("builder") });
    await show(<ToDecide c={guarded} />);
    expect(await screen.findByText(/The administrators of Clayworks have been asked/)).toBeTruthy();
    expect(screen.queryByRole("button")).toBeNull();
  });
});

describe("a call that was not made, as its address is not public", () => {
  const connector = {
    name: "tables",
    title: "Tables",
    actions: [
      {
        name: "rows",
        title: "Rows",
        sentence: "Read",
        effect: "read",
        repeat: "safe",
        list: true,
        fields: [],
      },
    ],
  } as unknown as Connector;
  const not = {
    sent: { method: "GET", url: "http://10.0.0.5/rows", prepared: false, guarded: "10.0.0.5:80" },
    curl: "",
    why: "Tables cannot be called",
  };

  it("is allowed there, and tried again", async () => {
    let tries = 0;
    const calls = serve({
      "GET /session": me("owner"),
      "GET /allowances": { addresses: [] },
      "PUT /allowances": { addresses: ["10.0.0.5:80"] },
      "POST /try": () =>
        tries++ === 0
          ? not
          : { ...not, why: undefined, status: 200, items: [], sent: { ...not.sent, guarded: undefined } },
    });
    await show(<TryAction connector={connector} connection="tables" />);
    await userEvent.click(screen.getByRole("button", { name: "Try it" }));
    await userEvent.click(await screen.findByRole("button", { name: "Allow it and try again" }));
    expect(await screen.findByText("The list is empty.")).toBeTruthy();
    expect(calls.filter((c) => c.path === "/try")).toHaveLength(2);
    expect(screen.queryByRole("group", { name: "Not a public address" })).toBeNull();
  });

  it("says to a builder whom to tell, and what", async () => {
    serve({ "GET /session": me("builder"), "POST /try": not });
    await show(<TryAction connector={connector} connection="tables" />);
    await userEvent.click(screen.getByRole("button", { name: "Try it" }));
    expect(await screen.findByText(/tell them that 10\.0\.0\.5:80 is wanted/)).toBeTruthy();
    expect(screen.queryByRole("button", { name: /Allow/ })).toBeNull();
  });

  it("is offered in the cell of a rehearsal, too", async () => {
    serve({
      "GET /session": me("owner"),
      "GET /allowances": { addresses: [] },
      "PUT /allowances": { addresses: [] },
    });
    const again = vi.fn();
    await show(
      <CellBeside cell={{ fate: "set_aside", text: "", sent: not.sent }} before={undefined} again={again} />,
    );
    await userEvent.click(await screen.findByRole("button", { name: "Allow it and rehearse again" }));
    await waitFor(() => {
      expect(again).toHaveBeenCalledOnce();
    });
  });
});

describe("an address without its scheme", () => {
  const connector = {
    name: "tables",
    title: "Tables",
    account: [{ name: "address", required: true, schema: { type: "string", title: "Address" } }],
    sign_in: [{ method: "none", title: "Nothing", secrets: [] }],
  } as unknown as Connector;

  it("is offered with the likely one, which one click takes", async () => {
    serve({});
    await show(<SignInForm connector={connector} onDone={() => undefined} />);
    const field = screen.getByLabelText<HTMLInputElement>(/Address/);
    await userEvent.type(field, "127.0.0.1:35213");
    await userEvent.click(screen.getByRole("button", { name: "Use http://127.0.0.1:35213" }));
    expect(screen.getByLabelText<HTMLInputElement>(/Address/).value).toBe("http://127.0.0.1:35213");
    expect(screen.queryByRole("button", { name: /^Use / })).toBeNull();
  });
});
