import { expect, it } from "vitest";
import { plainName } from "./names";

it("names are made of titles", () => {
  expect(["Short name", " 7 Kilns!", "Größe", "—"].map((t) => plainName(t))).toEqual([
    "short_name",
    "kilns",
    "gro_e",
    "",
  ]);
  expect(plainName("House words", "-")).toBe("house-words");
  expect(plainName("a ".repeat(60))).toHaveLength(59);
});
