// @vitest-environment jsdom
import { asBrowser, show } from "../testing/kit";
import { screen } from "@testing-library/react";
import { describe, expect, it } from "vitest";
import type { Connection, Connector } from "../api/client";
import { Facts } from "./Facts";
import { State } from "./State";

asBrowser();

const connection = (over: Partial<Connection> = {}) =>
  ({
    state: "ok",
    missing: [],
    account: { address: "http://127.0.0.1:9/crm" },
    pin: "http://127.0.0.1:9",
    method: "key",
    used_by: [],
    grants: [],
    everyone: true,
    ...over,
  }) as unknown as Connection;

const connector = {
  account: [{ name: "address", schema: { title: "Address of the service" } }],
  limits: "30 calls a minute",
} as unknown as Connector;

describe("how a connection stands", () => {
  it.each<[Partial<Connection>, string]>([
    [{}, "Works"],
    [{ missing: ["orders"] as never }, "Lacks something"],
    [{ held_until: "2026-11-27T10:00:00Z" }, "Told to wait"],
    [{ state: "broken" }, "Does not work"],
    [{ state: "consent" }, "Not signed in"],
    [{ state: "confirm" }, "To confirm"],
    [{ state: "unchecked" as never }, "Not checked"],
  ])("%o is %s", async (over, words) => {
    await show(<State c={connection(over)} />);
    expect(screen.getByText(words)).toBeTruthy();
  });
});

describe("what is known of a connection", () => {
  const fact = (name: string) => screen.getByText(name, { selector: "dt" }).nextElementSibling?.textContent;

  it("is told in the words of its connector", async () => {
    await show(<Facts c={connection()} connector={connector} way={{ title: "A key" } as never} />);
    expect(fact("Address of the service")).toBe("http://127.0.0.1:9/crm");
    expect(fact("Signs in by")).toBe("A key");
    expect(fact("Secret")).toBe("kept, never shown");
    expect(fact("Used by")).toBe("nothing yet");
    expect(fact("Limit")).toBe("30 calls a minute, as the connector says");
    expect(fact("Builders")).toBe("every builder may use it");
    expect(fact("Last checked")).toBe("never");
    expect(screen.queryByText("Granted")).toBeNull();
  });

  it("is told where its connector is gone", async () => {
    await show(<Facts c={connection({ method: "none" })} connector={undefined} way={undefined} />);
    expect(fact("address")).toBe("http://127.0.0.1:9/crm");
    expect(fact("Signs in by")).toBe("none");
    expect(fact("Limit")).toBe("none known");
    expect(screen.queryByText("Secret")).toBeNull();
  });

  it("names those who may use it, what was granted and its limits", async () => {
    const c = connection({
      everyone: false,
      hint: "7f3a",
      grants: [
        { name: "Tam Ashdown", actions: ["read", "add"] },
        { email: "wren@ottermere.example" },
      ] as never,
      scopes: [],
      used_by: ["glaze-order", "memo-once"],
      limits: { calls: 1, seconds: 60, parallel: 2 } as never,
      checked: "2026-11-20T08:00:00Z",
      took_ms: 0,
    });
    await show(<Facts c={c} connector={connector} way={undefined} />);
    expect(fact("Secret")).toBe("ends in 7f3a");
    expect(fact("Granted")).toBe("nothing");
    expect(fact("Used by")).toBe("glaze-order, memo-once");
    expect(fact("Builders")).toBe("administrators, Tam Ashdown (read, add), wren@ottermere.example");
    expect(fact("Limit")).toBe("1 call in 60 s, 2 at once");
    expect(fact("Last checked")).toMatch(/, in 1 ms$/);
  });
});
