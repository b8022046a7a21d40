import { afterEach, describe, expect, it, vi } from "vitest";
import { http } from "./client";
import { exactNumber, readJson, writeJson } from "./exact";

afterEach(() => {
  vi.unstubAllGlobals();
});

describe("numbers", () => {
  it("keep every digit", () => {
    const text =
      '{"id":9223372036854775807,"small":9007199254740991,"n":-12345678901234567,"f":0.1,"e":1e21}';
    expect(readJson(text)).toEqual({
      id: 9223372036854775807n,
      small: 9007199254740991,
      n: -12345678901234567n,
      f: 0.1,
      e: 1e21,
    });
    expect(readJson(writeJson(readJson(text)))).toEqual(readJson(text));
    expect(String((readJson(text) as { id: bigint }).id)).toBe("9223372036854775807");
  });
  it("are what is typed", () => {
    expect([exactNumber("12"), exactNumber("-0.5"), exactNumber("9223372036854775807")]).toEqual([
      12,
      -0.5,
      9223372036854775807n,
    ]);
  });
});

describe("calls", () => {
  it("bring and take whole numbers as they are", async () => {
    let sent = "";
    vi.stubGlobal("fetch", async (r: Request) => {
      sent = await r.text();
      return new Response('{"value": 9223372036854775807}', {
        headers: { "content-type": "application/json" },
      });
    });
    const got = await http.POST("/evaluate", {
      baseUrl: "http://127.0.0.1",
      body: { source: "item.id", item: { id: 9223372036854775807n } },
    });
    expect(got.data?.value).toBe(9223372036854775807n);
    expect(sent).toContain("9223372036854775807");
  });
  it("say what the service said when it said no", async () => {
    vi.stubGlobal("fetch", () =>
      Promise.resolve(
        new Response('{"type": "x", "title": "No."}', {
          status: 422,
          headers: { "content-type": "application/problem+json" },
        }),
      ),
    );
    const got = await http.POST("/evaluate", { baseUrl: "http://127.0.0.1", body: { source: "", item: {} } });
    expect(got.error?.title).toBe("No.");
  });
});
