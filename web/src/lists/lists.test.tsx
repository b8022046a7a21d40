// @vitest-environment jsdom
import { asBrowser, type Call, No, serve, show } from "../testing/kit";
import { fireEvent, screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import type { Schemas } from "../api/client";
import { Lists } from "../pages/Lists";

asBrowser();

const duty = (over: Partial<Schemas["WorkspaceList"]> = {}): Schemas["WorkspaceList"] => ({
  name: "duty",
  title: "On duty",
  about: "Who is called",
  columns: [
    { name: "short", title: "Short name", type: "text" },
    { name: "floor", type: "number" },
    { name: "on_duty", title: "On duty", type: "yes_no" },
  ],
  version: 4,
  rows: 2,
  changed: "2026-11-27T10:00:00Z",
  changed_by: "Mara Quill",
  used_by: ["kiln-loads"],
  ...over,
});

const rows = [
  { key: "wren", fields: { short: "wren", floor: 2, on_duty: true } },
  { key: "tam", fields: { short: "tam" } },
];

const outcome = (sentence: string, version = 5) => ({
  list: duty({ version }),
  added: 0,
  changed: 1,
  removed: 0,
  sentence,
});

const opened = async (answers: Record<string, unknown> = {}, role = "owner", items = true) => {
  const calls = serve({
    "GET /session": { name: "Mara Quill", role, items },
    "GET /lists": { lists: [duty(), duty({ name: "words", title: "Words", rows: 6, used_by: [] })] },
    "GET /lists/duty/rows": { version: 4, total: 2, rows },
    ...answers,
  });
  await show(<Lists />, "/lists");
  await screen.findByRole("heading", { name: "On duty" });
  return (method: string) => calls.filter((c: Call) => c.method === method);
};

const cell = (label: string) => screen.findByLabelText<HTMLInputElement>(label);

describe("a list", () => {
  it("shows what it is for, who reads it, and its rows by their titles", async () => {
    await opened();
    expect(screen.getByText("Who is called")).toBeTruthy();
    expect(screen.getByRole("link", { name: "kiln-loads" })).toBeTruthy();
    expect((await cell("Short name of wren")).value).toBe("wren");
    expect((await cell("floor of wren")).value).toBe("2");
    expect((await cell("On duty of wren")).value).toBe("yes");
    expect((await cell("On duty of tam")).value).toBe("");
    expect(screen.getByText("2 rows", { selector: "[role=status]" })).toBeTruthy();
    expect(screen.getByRole("link", { name: "Save as CSV" }).getAttribute("href")).toBe(
      "/api/v1/lists/duty/csv",
    );
  });

  it("takes what is typed into a cell once it is left, with the version that was seen", async () => {
    const sent = await opened({ "POST /lists/duty/rows": outcome("1 row changed.") });
    const phone = await cell("floor of tam");
    await userEvent.type(phone, "3");
    expect(sent("POST")).toHaveLength(0);
    await userEvent.tab();
    await waitFor(() => {
      expect(sent("POST")[0]?.body).toEqual({ edits: [{ key: "tam", fields: { floor: "3" } }] });
    });
    fireEvent.change(await cell("On duty of tam"), { target: { value: "yes" } });
    await waitFor(() => {
      expect(sent("POST")[1]?.body).toEqual({ edits: [{ key: "tam", fields: { on_duty: "yes" } }] });
    });
  });

  it("takes nothing with Escape, and goes to the cell below with Enter", async () => {
    const sent = await opened({ "POST /lists/duty/rows": outcome("1 row changed.") });
    const wren = await cell("floor of wren");
    await userEvent.type(wren, "77{Escape}");
    expect(wren.value).toBe("2");
    await userEvent.type(wren, "0{Enter}");
    expect(document.activeElement).toBe(await cell("floor of tam"));
    await waitFor(() => {
      expect(sent("POST").map((c) => c.body)).toEqual([
        { edits: [{ key: "wren", fields: { floor: "20" } }] },
      ]);
    });
  });

  it("says what is wrong by row and column, and keeps what was typed in a new row", async () => {
    let wrong = true;
    const sent = await opened({
      "POST /lists/duty/rows": () =>
        wrong
          ? new No(422, {
              type: "invalid_input",
              title: "Nothing was changed.",
              fields: [{ field: "row 3, floor", message: "It is no number." }],
            })
          : outcome("1 row added."),
    });
    await userEvent.type(await cell("Short name of a new row"), "elm");
    await userEvent.type(await cell("floor of a new row"), "high{Enter}");
    expect((await screen.findByRole("alert")).textContent).toContain("row 3, floor: It is no number.");
    expect((await cell("Short name of a new row")).value).toBe("elm");
    wrong = false;
    await userEvent.click(screen.getByRole("button", { name: "Add the row" }));
    await waitFor(async () => {
      expect((await cell("Short name of a new row")).value).toBe("");
    });
    expect(sent("POST").at(-1)?.body).toEqual({ edits: [{ fields: { short: "elm", floor: "high" } }] });
  });

  it("removes a row", async () => {
    const sent = await opened({ "POST /lists/duty/rows": outcome("1 row removed.") });
    await userEvent.click(await screen.findByRole("button", { name: "Remove tam" }));
    expect(sent("POST")[0]?.body).toEqual({ edits: [{ key: "tam", remove: true }] });
  });

  it("is read a page at a time, and looked through by the service", async () => {
    let edited = false;
    const sent = await opened({
      "GET /lists/duty/rows": (c: Call) => {
        const q = new URLSearchParams(c.path.split("?")[1]);
        const version = edited ? 5 : 4;
        if (q.get("find") === "zz") return { version: 4, total: 0, rows: [] };
        return q.get("from") === "2"
          ? { version, total: 3, rows: [{ key: "last", fields: { short: "last" } }] }
          : { version, total: 3, rows };
      },
      "POST /lists/duty/rows": () => {
        edited = true;
        return outcome("1 row changed.");
      },
    });
    await userEvent.click(await screen.findByRole("button", { name: "Show more, 1 left" }));
    expect((await cell("Short name of last")).value).toBe("last");
    expect(screen.queryByRole("button", { name: /Show more/ })).toBeNull();
    // What was read stays in sight while one edits it.
    const last = await cell("floor of last");
    fireEvent.change(last, { target: { value: "9" } });
    fireEvent.blur(last);
    await waitFor(() => {
      expect(sent("GET").filter((c) => c.path.includes("from=2"))).toHaveLength(2);
    });
    expect((await cell("Short name of last")).value).toBe("last");
    fireEvent.change(screen.getByLabelText("Find rows"), { target: { value: "zz" } });
    expect(await screen.findByText("No row holds “zz”.")).toBeTruthy();
    expect(sent("GET").some((c) => c.path.includes("find=zz"))).toBe(true);
  });

  it("is only read by a viewer, and hides what it holds from one without a grant", async () => {
    await opened({}, "viewer");
    expect(await screen.findByText("tam")).toBeTruthy();
    for (const name of ["Add a list", "Take in CSV", "Columns", "Remove this list"])
      expect(screen.queryByRole("button", { name })).toBeNull();
    document.body.innerHTML = "";
    await opened({}, "viewer", false);
    expect(await screen.findByText(/once an administrator has granted it/)).toBeTruthy();
    expect(screen.queryByRole("link", { name: "Save as CSV" })).toBeNull();
  });
});

describe("edits in quick succession", () => {
  it("are made one after the other, each with the version that the one before has made", async () => {
    const versions: (string | null)[] = [];
    let version = 4;
    let free: () => void = () => undefined;
    const first = new Promise<void>((done) => (free = done));
    await opened({
      "POST /lists/duty/rows": async () => {
        if (version === 4) await first;
        return outcome("1 row changed.", ++version);
      },
    });
    const real = globalThis.fetch;
    globalThis.fetch = (r: Request | string | URL) => {
      if (r instanceof Request && r.method === "POST") versions.push(r.headers.get("If-Match"));
      return real(r as Request);
    };
    for (const value of ["7", "8"]) {
      const floor = await cell(value === "7" ? "floor of wren" : "Short name of wren");
      fireEvent.change(floor, { target: { value } });
      fireEvent.blur(floor);
    }
    await waitFor(() => {
      expect(versions).toEqual(['"4"']);
    });
    free();
    await waitFor(() => {
      expect(versions).toEqual(['"4"', '"5"']);
    });
  });
});

describe("CSV", () => {
  it("is tried as it is typed, and taken in as it was tried", async () => {
    const sent = await opened({
      "POST /lists/duty/csv": (c: Call) =>
        JSON.stringify(c.body).includes("fone")
          ? new No(422, {
              type: "invalid_input",
              title: "The CSV cannot be taken in.",
              fields: [{ field: "fone", message: "The list has no such column." }],
            })
          : outcome("1 row added and 1 row removed."),
    });
    await userEvent.click(screen.getByRole("button", { name: "Take in CSV" }));
    const dialog = within(await screen.findByRole("dialog"));
    const take = dialog.getByRole<HTMLButtonElement>("button", { name: "Take them in" });
    expect(take.disabled).toBe(true);
    fireEvent.change(dialog.getByLabelText("CSV"), { target: { value: "fone\n1" } });
    expect(await dialog.findByText("The list has no such column.")).toBeTruthy();
    expect(take.disabled).toBe(true);
    await userEvent.upload(
      dialog.getByLabelText("CSV, from a file"),
      new File(["short\nelm"], "duty.csv", { type: "text/csv" }),
    );
    await userEvent.click(dialog.getByLabelText(/Put it in place of all/));
    expect(await dialog.findByText("It would be: 1 row added and 1 row removed.")).toBeTruthy();
    await userEvent.click(take);
    await waitFor(() => {
      expect(screen.queryByRole("dialog")).toBeNull();
    });
    expect(sent("POST").at(-1)?.body).toEqual({ csv: "short\nelm", how: "replace" });
  });
});

describe("columns", () => {
  it("are renamed, moved, added and taken out, and keep what they were", async () => {
    const sent = await opened({ "PATCH /lists/duty": outcome("2 rows changed.") });
    await userEvent.click(screen.getByRole("button", { name: "Columns" }));
    const dialog = within(await screen.findByRole("dialog"));
    await userEvent.click(dialog.getByRole("button", { name: "Move on_duty up" }));
    await userEvent.click(dialog.getByRole("button", { name: "Take floor out" }));
    expect(dialog.getByText(/Taken out with its cells: floor/)).toBeTruthy();
    fireEvent.change(dialog.getByLabelText("Name of column 1"), { target: { value: "name" } });
    await userEvent.click(dialog.getByRole("button", { name: "Add a column" }));
    fireEvent.change(dialog.getByLabelText("Name of column 3"), { target: { value: "note" } });
    fireEvent.change(dialog.getByLabelText("What column 3 holds"), { target: { value: "number" } });
    await userEvent.click(dialog.getByRole("button", { name: "Change it" }));
    await waitFor(() => {
      expect(sent("PATCH")[0]?.body).toEqual({
        title: "On duty",
        about: "Who is called",
        columns: [
          { name: "name", title: "Short name", type: "text", was: "short" },
          { name: "on_duty", title: "On duty", type: "yes_no", was: "on_duty" },
          { name: "note", type: "number" },
        ],
      });
    });
  });
});

describe("the history of a list", () => {
  it("tells who changed what, and puts it back", async () => {
    const sent = await opened({
      "GET /lists/duty/changes": {
        changes: [
          { version: 4, at: "2026-11-27T10:00:00Z", changed_by: "Tam", what: "1 row changed" },
          { version: 3, at: "2026-11-26T10:00:00Z", changed_by: "Mara", what: "created with 2 rows" },
        ],
      },
      "GET /lists/duty/changes/3": {
        columns: duty().columns,
        added: [{ key: "ash", fields: { short: "ash" } }],
        removed: [{ key: "elm", fields: { short: "elm", gone: "of a column that is gone" } }],
        changed: [
          { before: { key: "tam", fields: { floor: 1 } }, after: { key: "tam", fields: { floor: 2 } } },
        ],
      },
      "GET /lists/duty/changes/4": { columns: duty().columns, added: [], removed: [], changed: [] },
      "POST /lists/duty/changes/3/back": outcome("1 row changed."),
    });
    await userEvent.click(screen.getByRole("button", { name: "History" }));
    await userEvent.click(await screen.findByRole("button", { name: /1 row changed/ }));
    expect(await screen.findByText("It changed no row.")).toBeTruthy();
    expect(screen.queryByRole("button", { name: /Put it back/ })).toBeNull();
    await userEvent.click(screen.getByRole("button", { name: /created with 2 rows/ }));
    const table = await screen.findByRole("table", { name: "What change 3 did" });
    expect(within(table).getByText("of a column that is gone")).toBeTruthy();
    expect(within(table).getAllByRole("row")).toHaveLength(5);
    await userEvent.click(screen.getByRole("button", { name: /Put it back as it was after this/ }));
    await waitFor(() => {
      expect(sent("POST")).toHaveLength(1);
    });
  });
});

describe("the lists of a workspace", () => {
  it("are made of CSV, by a name that workflows can read", async () => {
    const sent = await opened({
      "GET /lists": { lists: [duty()] },
      "POST /lists": duty({ name: "house-words", title: "House words" }),
    });
    await userEvent.click(screen.getByRole("button", { name: "Add a list" }));
    const dialog = within(await screen.findByRole("dialog"));
    await userEvent.type(dialog.getByLabelText("What it is called"), "House words");
    expect(dialog.getByLabelText<HTMLInputElement>("Its name in workflows").value).toBe("house-words");
    const make = dialog.getByRole<HTMLButtonElement>("button", { name: "Make it" });
    expect(make.disabled).toBe(true);
    fireEvent.change(dialog.getByLabelText("Its columns and rows, as CSV"), {
      target: { value: "word\nceladon" },
    });
    await userEvent.click(make);
    await waitFor(() => {
      expect(sent("POST")[0]?.body).toEqual({
        name: "house-words",
        title: "House words",
        about: "",
        csv: "word\nceladon",
      });
    });
  });

  it("say why one cannot be removed", async () => {
    await opened({
      "DELETE /lists/duty": new No(409, { type: "in_use", title: "It is read by kiln-loads." }),
    });
    await userEvent.click(screen.getByRole("button", { name: "Remove this list" }));
    await userEvent.click(screen.getByRole("button", { name: "Remove it" }));
    expect(await screen.findByText("It is read by kiln-loads.")).toBeTruthy();
  });

  it("say what they are for while there is none", async () => {
    serve({ "GET /session": { name: "Mara", role: "owner", items: true }, "GET /lists": { lists: [] } });
    await show(<Lists />, "/lists");
    expect(await screen.findByText(/There is no list yet/)).toBeTruthy();
  });
});
