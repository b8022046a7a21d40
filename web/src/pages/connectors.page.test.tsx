// @vitest-environment jsdom
import { cleanup, screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import { asBrowser, No, serve, show } from "../testing/kit";
import { Connectors } from "./Connectors";

asBrowser();

const action = (name: string, title: string, effect: string) => ({
  name,
  title,
  sentence: title,
  effect,
  repeat: effect === "read" ? "safe" : "keyed",
  list: effect === "read",
  fields: [],
});
const connector = (name: string, title: string, more: object = {}) => ({
  name,
  title,
  about: `All of ${title}`,
  version: 1,
  author: "Young Trellis",
  web: true,
  account: [],
  sign_in: [{ method: "api_key", title: "A key", secrets: [] }],
  actions: [action("rows", `Read the rows of ${title}`, "read"), action("append", "Add a row", "write")],
  triggers: [],
  hosts: [],
  ...more,
});
const list = {
  connectors: [connector("tables", "Tables"), connector("figures", "Figures", { own: true })],
};
const around = {
  "GET /connectors": list,
  "GET /connectors/tables": { ...list.connectors[0], document: "name: tables\n" },
  "GET /connectors/figures": { ...list.connectors[1], document: "name: figures\n" },
  "GET /connections": { connections: [] },
};

describe("the connectors", () => {
  it("are found by what they do, and the chosen one stands in the address", async () => {
    serve(around);
    const page = await show(<Connectors />, "/connectors");
    await screen.findByRole("button", { name: /^Tables/ });
    await userEvent.type(screen.getByLabelText("Find a connector or an action"), "rows of figures");
    expect(screen.queryByRole("button", { name: /^Tables/ })).toBeNull();
    await userEvent.click(screen.getByRole("button", { name: /^Figures/ }));
    await waitFor(() => {
      expect(page.where()).toContain("connector=figures");
    });
    await userEvent.type(screen.getByLabelText("Find a connector or an action"), " nowhere");
    expect(screen.getByText(/Nothing does that yet/)).toBeTruthy();
  });

  it("of one's own are taken away again; those that are shipped stay", async () => {
    const calls = serve({ ...around, "DELETE /connectors/figures": {} });
    await show(<Connectors />, "/connectors?connector=tables");
    await screen.findByRole("heading", { name: /Tables/ });
    expect(screen.queryByRole("button", { name: "remove" })).toBeNull();
    cleanup();
    await show(<Connectors />, "/connectors?connector=figures");
    await userEvent.click(await screen.findByRole("button", { name: "remove" }));
    await waitFor(() => {
      expect(calls.some((c) => c.method === "DELETE" && c.path === "/connectors/figures")).toBe(true);
    });
  });

  it("are made of an OpenAPI document, once one has said where its calls belong", async () => {
    const calls = serve({
      ...around,
      "POST /connectors/import": {
        title: "Orders",
        reads: 3,
        writes: 1,
        sign_in: ["a key"],
        servers: ["https://orders.example"],
        left_out: [{ what: "POST /upload", why: "its body is a stream" }],
        document: "name: orders\n",
      },
      "POST /connectors": { name: "orders", title: "Orders" },
    });
    await show(<Connectors />, "/connectors");
    await userEvent.click(await screen.findByRole("button", { name: /Import/ }));
    const dialog = await screen.findByRole("dialog");
    await userEvent.click(within(dialog).getByLabelText("or its text"));
    await userEvent.paste("openapi: 3.1.0");
    await userEvent.click(within(dialog).getByRole("button", { name: "Read it" }));
    expect(await within(dialog).findByText(/3 actions that read and 1 action that write/)).toBeTruthy();
    expect(within(dialog).getByText("1 thing could not be taken")).toBeTruthy();
    const add = within(dialog).getByRole<HTMLButtonElement>("button", { name: "Add the connector" });
    expect(add.disabled).toBe(true);
    await userEvent.click(within(dialog).getByRole("checkbox"));
    await userEvent.click(add);
    await waitFor(() => {
      expect(calls.find((c) => c.method === "POST" && c.path === "/connectors")?.body).toEqual({
        document: "name: orders\n",
      });
    });
  });

  it("say what could not be read, and lose nothing", async () => {
    serve({
      ...around,
      "POST /connectors/import": new No(422, {
        type: "invalid_document",
        title: "This is no OpenAPI document.",
      }),
    });
    await show(<Connectors />, "/connectors");
    await userEvent.click(await screen.findByRole("button", { name: /Import/ }));
    const dialog = await screen.findByRole("dialog");
    await userEvent.click(within(dialog).getByLabelText("or its text"));
    await userEvent.paste("hello");
    await userEvent.click(within(dialog).getByRole("button", { name: "Read it" }));
    expect(await within(dialog).findByText("This is no OpenAPI document.")).toBeTruthy();
    expect(within(dialog).getByLabelText<HTMLTextAreaElement>("or its text").value).toBe("hello");
  });

  it("have parts that the arrow keys go through", async () => {
    serve({
      ...around,
      "GET /connections": { connections: [{ name: "books", connector: "tables", state: "ok", used_by: [] }] },
    });
    await show(<Connectors />, "/connectors?connector=tables");
    const first = await screen.findByRole("tab", { name: "What it can do" });
    expect(first.getAttribute("aria-selected")).toBe("true");
    await userEvent.click(first);
    await userEvent.keyboard("{ArrowRight}");
    expect(await screen.findByText("books")).toBeTruthy();
    expect(screen.getByRole("tab", { name: "Try one action" }).getAttribute("aria-selected")).toBe("true");
    await userEvent.keyboard("{End}");
    expect(await screen.findByText("name: tables")).toBeTruthy();
    await userEvent.keyboard("{ArrowRight}"); // from the last to the first
    expect(await screen.findByText("To connect it")).toBeTruthy();
  });

  it("do not say that an account is missing before it is known", async () => {
    let known: (answer: unknown) => void = () => undefined;
    serve({ ...around, "GET /connections": () => new Promise((done) => (known = done)) });
    await show(<Connectors />, "/connectors?connector=tables&try=rows");
    expect(await screen.findByText("Reading the accounts")).toBeTruthy();
    expect(screen.queryByText(/Connect Tables first/)).toBeNull();
    known({ connections: [] });
    expect(await screen.findByText(/Connect Tables first/)).toBeTruthy();
  });
});
