// @vitest-environment jsdom
import { screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it, vi } from "vitest";
import type { Connection, Connector } from "../api/client";
import { asBrowser, No, serve, show } from "../testing/kit";
import { Account } from "./Account";
import { AddAccount } from "./AddAccount";
import { cameBack, goingAway } from "./comeBack";
import { ChooseConnector } from "./ChooseConnector";
import { PasteCall } from "./PasteCall";
import { SignInForm } from "./SignInForm";
import { ToDecide } from "./ToDecide";
import { TryAction } from "./TryAction";

asBrowser();

const tables = {
  name: "tables",
  title: "Tables",
  about: "Workbooks of rows",
  web: true,
  account: [{ name: "address", required: true, schema: { type: "string", title: "Address" } }],
  sign_in: [
    {
      name: "api_key",
      method: "api_key",
      title: "A key",
      help: "Settings, then Keys.",
      secrets: [{ name: "secret", title: "Key", required: true, shown: false }],
    },
    {
      name: "basic",
      method: "basic",
      title: "User and password",
      secrets: [
        { name: "user", title: "User", required: true, shown: true },
        { name: "secret", title: "Password", required: true, shown: false },
      ],
    },
  ],
  actions: [
    {
      name: "rows",
      title: "Read the rows of a tab",
      sentence: "Read {tab}",
      effect: "read",
      repeat: "safe",
      list: true,
      fields: [{ name: "tab", required: true, schema: { type: "string", title: "Tab" } }],
    },
    {
      name: "append",
      title: "Add a row",
      sentence: "Add a row",
      effect: "write",
      repeat: "keyed",
      list: false,
      fields: [],
    },
  ],
} as unknown as Connector;

const forum = {
  ...tables,
  name: "forum",
  title: "Forum",
  about: "Posts",
  account: [],
  sign_in: [
    {
      name: "oauth2",
      method: "oauth2",
      title: "Consent",
      consent: true,
      redirect: "http://127.0.0.1/oauth/callback",
      secrets: [],
      scopes: [
        { name: "read", title: "read posts", always: true },
        { name: "write", title: "write comments", always: false },
      ],
    },
  ],
} as unknown as Connector;

const account = (state: string, words: string, more: Partial<Connection> = {}) =>
  ({
    name: "tables",
    connector: "tables",
    connector_title: "Tables",
    method: "api_key",
    account: { address: "https://tables.example" },
    state,
    words,
    ...more,
  }) as unknown as Connection;

const typed = async (label: string | RegExp, text: string) => {
  await userEvent.clear(screen.getByLabelText(label));
  await userEvent.type(screen.getByLabelText(label), text);
};

describe("signing in", () => {
  it("sends what was entered, by the way that was chosen, and forgets the secret", async () => {
    const calls = serve({ "POST /connections": account("ok", "Works") });
    const done = vi.fn();
    await show(<SignInForm connector={tables} onDone={done} />);
    expect(screen.getByText("Settings, then Keys.")).toBeTruthy();
    await userEvent.click(screen.getByLabelText("User and password"));
    await typed("Address", "https://tables.example");
    await typed("User", "hall");
    await typed("Password", "a secret");
    await typed("What to call it here", "hall-tables");
    await userEvent.click(screen.getByRole("button", { name: "Store and check" }));
    await waitFor(() => {
      expect(done).toHaveBeenCalled();
    });
    expect(calls[0]?.body).toEqual({
      name: "hall-tables",
      connector: "tables",
      method: "basic",
      account: { address: "https://tables.example" },
      values: { user: "hall", secret: "a secret" },
    });
    expect(screen.getByLabelText<HTMLInputElement>("Password").value).toBe("");
  });

  it("asks for the scopes that were left, and says where to register", async () => {
    const calls = serve({ "POST /connections": account("consent", "Not signed in yet") });
    await show(<SignInForm connector={forum} onDone={() => undefined} />);
    expect(screen.getByText("http://127.0.0.1/oauth/callback")).toBeTruthy();
    expect(screen.getByLabelText<HTMLInputElement>(/read posts/).disabled).toBe(true);
    await userEvent.click(screen.getByLabelText(/write comments/));
    await userEvent.click(screen.getByRole("button", { name: "Store and go on" }));
    await waitFor(() => {
      expect(calls).toHaveLength(1);
    });
    expect(calls[0]?.body).toMatchObject({ scopes: ["read"] });
  });

  it("says what the service said, and keeps what was typed", async () => {
    serve({
      "POST /connections": new No(409, { type: "taken", title: "The name is taken. Choose another." }),
    });
    await show(<SignInForm connector={tables} onDone={() => undefined} />);
    await typed("Address", "https://tables.example");
    await typed("Key", "a key");
    await userEvent.click(screen.getByRole("button", { name: "Store and check" }));
    expect(await screen.findByText("The name is taken. Choose another.")).toBeTruthy();
    expect(screen.getByLabelText<HTMLInputElement>("Address").value).toBe("https://tables.example");
  });
});

describe("an account", () => {
  it("stays until it works: the check's words, and another try on the same connection", async () => {
    const ready = vi.fn();
    let list = [account("broken", "The key was refused: 401")];
    const calls = serve({
      "GET /connections": () => ({ connections: list }),
      "POST /connections": () => list[0],
      "PUT /connections/tables": () => {
        list = [account("ok", "Works, signed in as Ottermere")];
        return list[0];
      },
    });
    await show(<Account connector={tables} onReady={ready} />);
    await typed("Address", "https://tables.example");
    await typed("Key", "wrong");
    await userEvent.click(screen.getByRole("button", { name: "Store and check" }));
    expect(await screen.findByText("The key was refused: 401.")).toBeTruthy();
    expect(ready).not.toHaveBeenCalled();
    await typed("Key", "right");
    await userEvent.click(screen.getByRole("button", { name: "Store and check" }));
    await waitFor(() => {
      expect(ready).toHaveBeenCalledTimes(1);
    });
    expect(calls.some((c) => c.method === "PUT")).toBe(true);
  });

  it("is added in a dialog that closes by itself once it works", async () => {
    const ready = vi.fn();
    serve({
      "GET /connections": { connections: [account("ok", "Works")] },
      "POST /connections": account("ok", "Works"),
    });
    await show(<AddAccount connector={tables} main onReady={ready} />);
    await userEvent.click(screen.getByRole("button", { name: "Connect Tables" }));
    await typed("Address", "https://tables.example");
    await typed("Key", "right");
    await userEvent.click(screen.getByRole("button", { name: "Store and check" }));
    await waitFor(() => {
      expect(ready).toHaveBeenCalled();
    });
    expect(screen.queryByRole("dialog")).toBeNull();
  });

  it("is confirmed before anything uses it", async () => {
    const calls = serve({ "POST /connections/tables/confirm": account("ok", "Works") });
    await show(<ToDecide c={account("confirm", "", { said: "ottermere" })} />);
    expect(screen.getByText("ottermere")).toBeTruthy();
    await userEvent.click(screen.getByRole("button", { name: "Yes, use it" }));
    await waitFor(() => {
      expect(calls.map((c) => c.path)).toEqual(["/connections/tables/confirm"]);
    });
  });

  it("brings back to the line from which one went for consent, and only once", () => {
    window.history.replaceState({}, "", "/workflows/loads?line=keep");
    goingAway("forum");
    expect(cameBack("tables")).toBeUndefined();
    expect(cameBack("forum")).toBe("/workflows/loads?line=keep&use=forum");
    expect(cameBack("forum")).toBeUndefined();
    window.history.replaceState({}, "", "/start?connector=forum&connection=forum");
    goingAway("forum");
    expect(cameBack("forum")).toBe("/start?connector=forum&connection=forum");
    window.history.replaceState({}, "", "/connections?connection=forum");
    goingAway("forum");
    expect(cameBack("forum")).toBeUndefined();
  });
});

describe("choosing an application", () => {
  it("finds by title and by what it is about, and offers a pasted call", async () => {
    serve({ "GET /connectors": { connectors: [tables, forum] } });
    const chosen = vi.fn();
    const paste = vi.fn();
    await show(<ChooseConnector onChoose={chosen} onPaste={paste} />);
    await screen.findByText("Tables");
    await userEvent.type(screen.getByLabelText("Find the application"), "posts");
    expect(screen.queryByText("Tables")).toBeNull();
    await userEvent.click(screen.getByText("Forum"));
    expect(chosen).toHaveBeenCalledWith(expect.objectContaining({ name: "forum" }));
    await userEvent.type(screen.getByLabelText("Find the application"), " nowhere");
    expect(screen.getByText("No connector is called so.")).toBeTruthy();
    await userEvent.click(screen.getByRole("button", { name: "Paste a call from its documentation" }));
    expect(paste).toHaveBeenCalled();
  });
});

describe("trying an action", () => {
  const tried = {
    sent: { method: "GET", url: "https://tables.example/rows", prepared: false },
    status: 200,
    took_ms: 12,
    items: [{ piece: "Tall jug" }],
  };
  it("reads at once, and hands on what was asked", async () => {
    const calls = serve({ "POST /try": tried });
    const onTried = vi.fn();
    await show(<TryAction connector={tables} connection="tables" first="rows" onTried={onTried} />);
    await typed(/^Tab/, "Pieces");
    await userEvent.click(screen.getByRole("button", { name: "Try it" }));
    expect(await screen.findByText("Came back")).toBeTruthy();
    expect(calls[0]?.body).toEqual({
      connection: "tables",
      action: "rows",
      input: { tab: "Pieces" },
      send: true,
    });
    expect(onTried).toHaveBeenCalledWith(expect.anything(), "rows", { tab: "Pieces" });
  });
  it("says that a write is one, and shows its request without sending it", async () => {
    const calls = serve({ "POST /try": { sent: { ...tried.sent, method: "POST", prepared: true } } });
    const onTried = vi.fn();
    await show(<TryAction connector={tables} connection="tables" onTried={onTried} />);
    await userEvent.selectOptions(screen.getByLabelText("Action"), "Add a row");
    expect(screen.getByRole("button", { name: "Send one for real" })).toBeTruthy();
    expect(screen.getByText("This writes to Tables.")).toBeTruthy();
    await userEvent.click(screen.getByRole("button", { name: "Show the request" }));
    expect(await screen.findByText("Would be sent")).toBeTruthy();
    expect(calls[0]?.body).toMatchObject({ send: false });
    expect(onTried).not.toHaveBeenCalled();
  });
});

describe("a pasted call", () => {
  const pasted = {
    sentence: "Read https://figures.example/v1/series",
    settings: { url: "/v1/series" },
    placeholders: [{ text: "YOUR_ID", where: "the address" }],
    notes: ["--compressed is done anyway."],
    secrets: [{ name: "secret", where: "Authorization", hint: "••••ab12", shown: false }],
    files: [],
    request: "GET /v1/series HTTP/1.1",
    origin: "https://figures.example",
    connector: "figures-example",
    action: "get_v1_series",
  };
  it("keeps its secret in a connection, is tried, and goes on as a step", async () => {
    const calls = serve({
      "POST /paste": pasted,
      "POST /paste/keep": {
        connector: "figures",
        version: 1,
        action: "figures.get_v1_series",
        joined: false,
        made: true,
        connection: account("ok", "Works", { name: "figures" }),
      },
      "POST /try": {
        sent: { method: "GET", url: "https://figures.example/v1/series", prepared: false },
        status: 200,
      },
    });
    const onTried = vi.fn();
    await show(<PasteCall onTried={onTried} />);
    await userEvent.type(
      screen.getByLabelText("A curl command, or a raw HTTP request"),
      "curl https://figures.example",
    );
    await userEvent.click(screen.getByRole("button", { name: "Read it" }));
    expect(await screen.findByText(/To fill in: YOUR_ID in the address/)).toBeTruthy();
    expect(screen.queryByRole("button", { name: "Try it" })).toBeNull();
    expect(screen.getByLabelText("As it goes out").textContent).toBe("GET /v1/series HTTP/1.1");
    await userEvent.clear(screen.getByLabelText("Connector"));
    await userEvent.type(screen.getByLabelText("Connector"), "figures");
    await userEvent.click(screen.getByRole("button", { name: "Keep it" }));
    await userEvent.click(await screen.findByRole("button", { name: "Try it" }));
    await waitFor(() => {
      expect(onTried).toHaveBeenCalledWith(expect.anything(), {
        settings: { url: "/v1/series" },
        connection: "figures",
      });
    });
    expect(calls.find((c) => c.path === "/paste/keep")?.body).toEqual({
      text: "curl https://figures.example",
      connector: "figures",
      action: "get_v1_series",
      values: {},
    });
  });
  it("asks for a secret that it has not, and says what could not be read", async () => {
    const asked = {
      name: "secret",
      where: "the header X-Api-Key",
      hint: "",
      shown: false,
      asked: "YOUR_KEY",
    };
    const calls = serve({
      "POST /paste": { ...pasted, secrets: [asked], placeholders: [], notes: [], joins: true },
      "POST /paste/keep": new No(422, { type: "invalid_input", title: "There is one of this name." }),
    });
    await show(<PasteCall />);
    await userEvent.type(screen.getByLabelText("A curl command, or a raw HTTP request"), "curl x");
    await userEvent.click(screen.getByRole("button", { name: "Read it" }));
    expect(await screen.findByText("Is there already; the call joins it.")).toBeTruthy();
    expect(screen.getByRole("button", { name: "Keep it" }).hasAttribute("disabled")).toBe(true);
    await userEvent.type(screen.getByLabelText("YOUR_KEY, the header X-Api-Key"), "tk");
    await userEvent.type(screen.getByLabelText("Connection"), "hall");
    await userEvent.click(screen.getByRole("button", { name: "Keep it" }));
    expect(await screen.findByText("There is one of this name.")).toBeTruthy();
    expect(calls.find((c) => c.path === "/paste/keep")?.body).toMatchObject({
      values: { secret: "tk" },
      connection: "hall",
    });
    serve({ "POST /paste": new No(422, { type: "invalid_input", title: "This is no call." }) });
    await userEvent.click(screen.getByRole("button", { name: "Read it" }));
    expect(await screen.findByText("This is no call.")).toBeTruthy();
  });
});
