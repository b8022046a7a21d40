// @vitest-environment jsdom
import { asBrowser, No, serve, show } from "../testing/kit";
import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it, vi } from "vitest";
import type { Schemas, Workflow } from "../api/client";
import { Schedule } from "../pages/Schedule";
import { When } from "../workbench/When";
import { daysOf, placeOf, startsOf } from "./agenda";
import { Times } from "./Times";

asBrowser();

const entry = (over: Partial<Schemas["ScheduleEntry"]> = {}): Schemas["ScheduleEntry"] => ({
  workflow: "kiln-loads",
  title: "Plan the kiln",
  state: "live",
  cadence: "every weekday at 16:30",
  zone: "UTC",
  times: [],
  more: 0,
  ...over,
});

const time = (at: string, note?: string) => ({
  at,
  wall: "Monday 30 November, 16:30",
  ...(note ? { note } : {}),
});

const schedule = (over: Partial<Schemas["Schedule"]> = {}): Schemas["Schedule"] => ({
  now: "2026-11-27T12:00:00Z",
  until: "2026-11-30T12:00:00Z",
  entries: [],
  together: [],
  missed: [],
  ...over,
});

const SCHEDULE = "GET /schedule";

describe("the schedule", () => {
  it("says how one begins where nothing starts by the clock", async () => {
    serve({ [SCHEDULE]: schedule() });
    await show(<Schedule />);
    expect(await screen.findByText(/choose “By the clock”/)).toBeTruthy();
  });

  it("shows day by day what starts, what starts together, what does not, and what was missed", async () => {
    // Few on a day are told one by one or as a span; what starts often has a line of its own.
    const half = Array.from({ length: 6 }, (_, i) => time(`2026-11-28T0${String(4 + i)}:30:00Z`));
    serve({
      [SCHEDULE]: schedule({
        entries: [
          entry({
            times: [
              time("2026-11-28T10:30:00Z", "the clocks go back over 10:30"),
              time("2026-11-29T10:30:00Z"),
            ],
          }),
          entry({ workflow: "watch", title: "Kiln watch", cadence: "every 1 hours", times: half }),
          entry({
            workflow: "often",
            title: "Often indeed",
            cadence: "every 5 minutes",
            times: [time("2026-11-27T12:05:00Z")],
            more: 800,
          }),
          entry({
            workflow: "month-end",
            title: "The month",
            cadence: "every month on the last day at 08:00",
            next: "2026-12-31T08:00:00Z",
          }),
          entry({ workflow: "resting", title: "Resting", state: "paused" }),
          entry({ workflow: "over", title: "Over" }),
        ],
        together: [
          { at: "2026-11-28T10:30:00Z", workflows: ["kiln-loads", "watch"] },
          { at: "2026-11-29T10:30:00Z", workflows: ["kiln-loads", "watch"] },
        ],
        missed: [
          {
            workflow: "watch",
            title: "Kiln watch",
            noted: "2026-11-27T11:00:00Z",
            first: "2026-11-27T09:00:00Z",
            last: "2026-11-27T10:30:00Z",
            times: 4,
            started: 1,
          },
          {
            workflow: "watch",
            title: "Kiln watch",
            noted: "2026-11-26T11:00:00Z",
            first: "2026-11-26T09:00:00Z",
            last: "2026-11-26T09:00:00Z",
            times: 1,
            started: 0,
          },
        ],
      }),
    });
    await show(<Schedule />);
    expect(await screen.findByRole("img", { name: /What starts until .*, of 3 workflows/ })).toBeTruthy();
    const saturday = screen.getByRole("region", { name: /Saturday 28 November/ });
    expect(within(saturday).getByText(/6 times, every 1 hours/)).toBeTruthy();
    expect(within(saturday).getByText(/the clocks go back over 10:30/)).toBeTruthy();
    expect(screen.getByRole("region", { name: "Often" }).textContent).toContain(
      "Often indeed801 times, every 5 minutes",
    );
    const never = screen.getByRole("region", { name: "Not within this span" });
    expect(never.textContent).toContain("every month on the last day at 08:00, next Thursday 31 December");
    expect(never.textContent).toContain("Restingpaused");
    expect(never.textContent).toContain("it is never due again");
    expect(screen.getByRole("region", { name: "At the same minute" }).textContent).toContain(
      "Plan the kiln; Kiln watch2 times",
    );
    const missed = screen.getByRole("region", { name: "Missed" });
    expect(missed.textContent).toContain("4 times");
    expect(missed.textContent).toContain("the last started a run later");
    expect(missed.textContent).toContain("let go");
  });

  it("looks further ahead, and says what went wrong", async () => {
    const calls = serve({ [SCHEDULE]: schedule() });
    await show(<Schedule />);
    await userEvent.click(await screen.findByRole("button", { name: "A week" }));
    await waitFor(() => {
      expect(calls.some((c) => c.path.includes("hours=168"))).toBe(true);
    });
    serve({ [SCHEDULE]: new No(500, { type: "internal", title: "Something went wrong here." }) });
    await show(<Schedule />);
    expect(await screen.findByText("Something went wrong here.")).toBeTruthy();
  });

  it("puts starts in their order and their day", () => {
    const s = schedule({
      entries: [
        entry({ times: [time("2026-11-29T10:30:00Z")] }),
        entry({
          workflow: "b",
          title: "B",
          times: [time("2026-11-28T10:30:00Z"), time("2026-11-29T09:00:00Z")],
        }),
      ],
    });
    expect(startsOf(s).map((x) => x.at)).toEqual([
      "2026-11-28T10:30:00Z",
      "2026-11-29T09:00:00Z",
      "2026-11-29T10:30:00Z",
    ]);
    expect(daysOf(s).map((d) => d.lines.map((l) => l.workflow))).toEqual([["b"], ["b", "kiln-loads"]]);
    expect([s.now, "2026-11-29T00:00:00Z", "2027-01-01T00:00:00Z"].map((at) => placeOf(s, at))).toEqual([
      0, 0.5, 1,
    ]);
  });

  it("says that something is never due again", async () => {
    await show(
      <Times times={[{ at: "2026-11-30T08:00:00Z", wall: "Monday", who: "wren and tam" }]} zone="UTC" />,
    );
    expect(screen.getByText("for wren and tam")).toBeTruthy();
    document.body.innerHTML = "";
    await show(<Times times={[]} zone="UTC" />);
    expect(screen.getByText("It is never due again.")).toBeTruthy();
  });
});

describe("a line that says when", () => {
  const CADENCE = "POST /cadence";
  const cadence = (sentence: string, settings: object, over: object = {}) => ({
    sentence,
    zone: "Europe/Lisbon",
    settings,
    a_week: 5,
    times: [{ at: "2026-11-30T08:00:00Z", wall: "Monday 30 November 2026, 08:00" }],
    days: [],
    ...over,
  });
  const workflow = (settings: object) =>
    ({ name: "kiln-loads", timed: true, trigger_settings: settings }) as unknown as Workflow;

  it("is read as one types it, shows the next times, and is taken with Enter", async () => {
    const calls = serve({
      [CADENCE]: cadence(
        "every weekday at 08:00 in Europe/Lisbon",
        { every: "weekday", at: "08:00", zone: "Europe/Lisbon" },
        { clocks: "The clocks go forward." },
      ),
    });
    const onEdit = vi.fn();
    await show(
      <When
        workflow={workflow({ missed: "skip", readers: "readers", only: "item.wants" })}
        onEdit={onEdit}
      />,
    );
    expect(screen.getByText(/As you would say it/)).toBeTruthy();
    expect(screen.getByText(/Rows of readers that have an hour of their own/)).toBeTruthy();
    await userEvent.type(screen.getByLabelText("When"), "every working day at 8");
    expect(
      await screen.findByText(
        "Every weekday at 08:00 in Europe/Lisbon: 5 times within seven days. Enter takes it.",
      ),
    ).toBeTruthy();
    expect(screen.getByText("Monday 30 November 2026, 08:00")).toBeTruthy();
    expect(screen.getByText("The clocks go forward.")).toBeTruthy();
    expect(calls.at(-1)?.body).toMatchObject({ phrase: "every working day at 8" });
    await userEvent.keyboard("{Enter}");
    expect(onEdit).toHaveBeenCalledExactlyOnceWith([
      {
        op: "trigger",
        key: "settings",
        value: {
          missed: "skip",
          readers: "readers",
          only: "item.wants",
          every: "weekday",
          at: "08:00",
          zone: "Europe/Lisbon",
        },
      },
    ]);
  });

  it("shows what stands, keeps what is wrong out, and goes back with Escape", async () => {
    serve({
      [CADENCE]: (c: { body: unknown }) =>
        (c.body as { phrase?: string }).phrase
          ? new No(422, {
              type: "invalid_input",
              title: "Some fields are not right.",
              fields: [{ field: "every", message: "“wekday” is no cadence. Did you mean weekday?" }],
            })
          : cadence("every weekday at 08:00", { every: "weekday", at: "08:00" }),
    });
    const onEdit = vi.fn();
    await show(<When workflow={workflow({ every: "weekday", at: "08:00" })} onEdit={onEdit} />);
    const line = await screen.findByDisplayValue("every weekday at 08:00");
    expect(screen.getByText("5 times within seven days.")).toBeTruthy();
    await userEvent.clear(line);
    await userEvent.type(line, "every wekday at 8");
    expect(await screen.findByText(/Did you mean weekday/)).toBeTruthy();
    await userEvent.tab();
    expect(onEdit).not.toHaveBeenCalled();
    await userEvent.click(line);
    await userEvent.keyboard("{Escape}");
    expect(await screen.findByDisplayValue("every weekday at 08:00")).toBeTruthy();
  });
});
