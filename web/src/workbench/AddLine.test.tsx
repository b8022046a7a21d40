// @vitest-environment jsdom
import { cleanup, render, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, beforeAll, describe, expect, it, vi } from "vitest";
import { AddLine } from "./AddLine";
import shipped from "./lines.fixture.json";

const gone = vi.fn();
vi.mock("@tanstack/react-router", () => ({ useNavigate: () => gone }));
vi.mock("../api/connectors", () => ({
  useKinds: () => ({ data: { steps: shipped.kinds } }),
  useConnectors: () => ({ data: { connectors: shipped.connectors } }),
}));
const accounts = vi.hoisted(() => ({ reading: false }));
vi.mock("../api/connections", () => ({
  useConnections: () =>
    accounts.reading
      ? { isPending: true }
      : { data: { connections: [{ name: "phones", connector: "sms" }] }, isPending: false },
}));

beforeAll(() => {
  // What the list of commands asks of a browser.
  globalThis.ResizeObserver = class {
    observe() {}
    unobserve() {}
    disconnect() {}
  };
  Element.prototype.scrollIntoView = () => undefined;
});
afterEach(() => {
  cleanup();
  vi.clearAllMocks();
});

function shown() {
  const did = { onAdd: vi.fn(), onStart: vi.fn(), onFails: vi.fn() };
  render(<AddLine taken={["send"]} prompt="Say what should happen next…" {...did} />);
  return { ...did, input: screen.getByPlaceholderText("Say what should happen next…") };
}

describe("a line that is added", () => {
  it("is what is marked when Enter is pressed", async () => {
    const { onAdd, input } = shown();
    await userEvent.type(input, "send a text");
    await waitFor(() => {
      expect(screen.getAllByRole("option")[0]?.textContent).toContain("Send a text message");
    });
    expect(screen.getAllByRole("option")[0]?.getAttribute("aria-selected")).toBe("true");
    await userEvent.keyboard("{Enter}");
    expect(onAdd).toHaveBeenCalledWith({ name: "send_2", type: "sms.send", input: {}, connection: "phones" });
  });

  it("waits until the accounts are known, and keeps what was typed", async () => {
    accounts.reading = true;
    try {
      const { onAdd, input } = shown();
      await userEvent.type(input, "send a text{Enter}");
      expect(screen.getByText("Looking…")).toBeTruthy();
      expect(screen.queryByText("Call an address")).toBeNull();
      expect(onAdd).not.toHaveBeenCalled();
      expect((input as HTMLInputElement).value).toBe("send a text");
    } finally {
      accounts.reading = false;
    }
  });

  it("has a place for the lines within it", async () => {
    const { onAdd, input } = shown();
    await userEvent.type(input, "for each row{Enter}");
    expect(onAdd).toHaveBeenCalledWith({ name: "loop", type: "loop", settings: { steps: [] } });
  });

  it("says which applications have no account yet", async () => {
    const { input } = shown();
    await userEvent.type(input, "send mail");
    expect(screen.getAllByRole("option")[0]?.textContent).toContain("there is no account yet");
  });

  it("offers to change what starts the workflow for a time or an event", async () => {
    const { onStart, onAdd, input } = shown();
    await userEvent.type(input, "every hour{Enter}");
    expect(onStart).toHaveBeenCalled();
    expect(onAdd).not.toHaveBeenCalled();
  });

  it("offers other lines for what fails", async () => {
    const { onFails, input } = shown();
    await userEvent.type(input, "if it fails{Enter}");
    expect(onFails).toHaveBeenCalled();
  });

  it("offers an address to call and an import where nothing is found", async () => {
    const { onAdd, input } = shown();
    await userEvent.type(input, "xylophone");
    expect(screen.getByText(/Nothing does that yet/)).toBeTruthy();
    await userEvent.keyboard("{ArrowDown}{Enter}");
    expect(gone).toHaveBeenCalledWith({ to: "/connectors" });
    await userEvent.clear(input);
    await userEvent.type(input, "xylophone{Enter}");
    expect(onAdd).toHaveBeenCalledWith({ name: "http", type: "http", settings: {} });
  });
});
