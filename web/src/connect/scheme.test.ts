import { describe, expect, it } from "vitest";
import { likely } from "./scheme";

describe("an address without its scheme", () => {
  it.each([
    ["tables.example", "https://tables.example"],
    [" tables.example/v1 ", "https://tables.example/v1"],
    ["//tables.example", "https://tables.example"],
    ["tables.example:8443", "https://tables.example:8443"],
    ["127.0.0.1:35213", "http://127.0.0.1:35213"],
    ["localhost", "http://localhost"],
    ["localhost:80/x", "http://localhost:80/x"],
    ["10.0.0.5", "http://10.0.0.5"],
    ["172.20.0.5:1", "http://172.20.0.5:1"],
    ["172.40.0.5:1", "https://172.40.0.5:1"],
    ["[::1]:8080", "http://[::1]:8080"],
    ["kiln.internal:8080", "http://kiln.internal:8080"],
    ["203.0.113.9", "https://203.0.113.9"],
  ])("%s was likely %s", (typed, meant) => {
    expect(likely(typed)).toBe(meant);
  });

  it.each([
    "",
    "tables",
    "https://tables.example",
    "ftp://tables.example",
    "me@tables.example",
    "two words.example",
    "a..b",
    "x:99999999",
  ])("nothing is offered for %j", (typed) => {
    expect(likely(typed)).toBeUndefined();
  });
});
