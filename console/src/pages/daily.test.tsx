// @vitest-environment jsdom
import "../testing/setup";
import { fireEvent, screen, waitFor, within } from "@testing-library/react";
import { describe, expect, test } from "vitest";
import type { Check, Entry, Keep, KeepPreview, KeepRule, Readiness } from "../api";
import { asked, button, ferries, noon, Refusal, sees, show } from "../testing/console";

describe("what is kept", () => {
  const rule: KeepRule = { spanHours: 120, count: 0, daily: 0, weekly: 0, monthly: 0, yearly: 0 };
  const keep = (over: Partial<Keep> = {}): Keep => ({
    cluster: "ferries",
    from: "its own rule",
    rule,
    pins: [],
    promise: ferries().promise,
    ...over,
  });
  const preview = (going: boolean, as: KeepRule = rule): KeepPreview =>
    ({
      asOf: noon,
      promised: noon,
      rule: as,
      words: "",
      token: "just this",
      held: true,
      freesBackups: 3 << 20,
      freesWal: 100 << 20,
      before: [{ timeline: 1, base: "old", from: "0/1", to: "0/9", fromTime: "2027-03-01T12:00:00Z", toTime: noon }],
      after: [{ timeline: 1, base: "new", from: "0/5", to: "0/9", fromTime: noon, toTime: noon }],
      bases: [
        {
          id: "new",
          timeline: 1,
          start: "0/5",
          stop: "0/6",
          stopTime: noon,
          needed: true,
          reasons: [
            { kind: "last", text: "the newest" },
            { kind: "span", text: "taken within the last 5 days" },
          ],
        },
        {
          id: "old",
          timeline: 1,
          start: "0/1",
          stop: "0/2",
          stopTime: "2027-03-01T12:00:00Z",
          needed: !going,
          reasons: [{ kind: "superseded", text: "nothing needs it" }],
        },
      ],
      wal: [{ timeline: 1, first: 3, last: going ? 1494 : 3, from: "0/3", to: "0/4", needed: !going, reasons: [] }],
    }) as KeepPreview;

  test("goes only as it was shown, and when the name is typed", async () => {
    const { user } = show("/clusters/ferries/keep", {
      "GET /clusters/ferries/keep": keep(),
      "POST /clusters/ferries/keep/preview": preview(true),
      "POST /clusters/ferries/keep/apply": new Refusal(409, {
        title: "nothing was deleted",
        detail: "something else would be deleted by now",
      }),
    });
    await sees("any moment of the last 5 days");
    await sees(/1 base backup and 1,492 WAL segments are not needed any more: 3\.0 MiB of base backups and 100\.0 MiB of WAL/);
    await sees("the newest; taken within the last 5 days");
    await user.click(await button("Delete them"));
    const dialog = await screen.findByRole("dialog");
    await user.type(within(dialog).getByRole("textbox"), "ferries");
    await user.click(within(dialog).getByRole("button", { name: "Delete them" }));
    await within(dialog).findByText("something else would be deleted by now");
    expect(asked).toEqual([{ what: "POST /clusters/ferries/keep/apply", body: { token: "just this", confirm: "ferries" } }]);
  });

  test("is tried with another rule without being set, and nothing is deleted by a trial", async () => {
    const { user } = show("/clusters/ferries/keep", {
      "GET /clusters/ferries/keep": keep(),
      "POST /clusters/ferries/keep/preview": (body: unknown) =>
        preview((body as { rule?: KeepRule }).rule?.monthly === 12, (body as { rule?: KeepRule }).rule),
      "PUT /clusters/ferries/keep": {},
    });
    await sees("Everything is still needed: nothing would be deleted.");
    fireEvent.change(screen.getByLabelText("of months"), { target: { value: "12" } });
    await sees(/would be deleted then: /);
    expect(screen.queryByRole("button", { name: "Delete them" })).toBeNull();
    await user.click(await button("Set this rule"));
    await waitFor(() => expect(asked).toEqual([{ what: "PUT /clusters/ferries/keep", body: { ...rule, monthly: 12 } }]));
  });

  test("takes back what was deleted and is not gone", async () => {
    const deleted: Keep["deleted"] = {
      backups: [{ id: "old", takenAt: "2027-03-01T12:00:00Z", until: noon }],
      segments: 3,
      bytes: 50331648,
      walUntil: noon,
    };
    const { user } = show("/clusters/ferries/keep", {
      "GET /clusters/ferries/keep": keep({ deleted }),
      "POST /clusters/ferries/keep/preview": preview(false),
      "POST /clusters/ferries/keep/undo": keep(),
    });
    await sees(/Deleted: the base backup of/);
    await sees(/3 WAL segments, 48\.0 MiB, permanently deleted after/);
    await user.click(await button("Take back"));
    await waitFor(() => expect(asked).toEqual([{ what: "POST /clusters/ferries/keep/undo", body: undefined }]));
  });

  test("is pinned with a reason, which is needed, and a day", async () => {
    const { user } = show("/clusters/ferries/keep", {
      "GET /clusters/ferries/keep": keep({
        pins: [{ backup: "old", reason: "audit" }] as Keep["pins"],
        promise: { ...ferries().promise, held: false },
      }),
      "POST /clusters/ferries/keep/preview": preview(false),
      "PUT /backups/new/pin": {},
      "DELETE /backups/old/pin": {},
    });
    await sees(/The promise is not held yet/);
    await user.click(await button("Pin"));
    const why = await screen.findByLabelText("why it is pinned");
    await user.type(why, "{Enter}");
    expect(asked).toEqual([]);
    await user.type(why, "before the season");
    fireEvent.change(screen.getByLabelText("day on which the pin expires"), { target: { value: "2027-06-01" } });
    await user.click(await button("Pin"));
    await waitFor(() => expect(asked).toHaveLength(1));
    expect(asked[0]).toEqual({
      what: "PUT /backups/new/pin",
      body: { reason: "before the season", until: new Date("2027-06-01T00:00:00").toISOString() },
    });
    await user.click(await button("Take the pin off"));
    await waitFor(() => expect(asked.at(-1)!.what).toBe("DELETE /backups/old/pin"));
  });

  test("on another day is in the address", async () => {
    const days: unknown[] = [];
    const { router } = show("/clusters/ferries/keep?asOf=2027-04-01", {
      "GET /clusters/ferries/keep": keep(),
      "POST /clusters/ferries/keep/preview": (body: unknown) => (days.push((body as { asOf?: string }).asOf), preview(true)),
    });
    await sees(/would be deleted then: /);
    expect(days.at(-1)).toBe(new Date("2027-04-01T12:00:00").toISOString());
    fireEvent.change(screen.getByLabelText("as of the day"), { target: { value: "" } });
    await waitFor(() => expect(router.state.location.search).toEqual({}));
    await sees(/are not needed any more/);
  });

  test("cannot be a rule that deletes everything", async () => {
    show("/clusters/ferries/keep", {
      "GET /clusters/ferries/keep": keep(),
      "POST /clusters/ferries/keep/preview": new Refusal(422, { title: "the keep rule cannot be used", detail: "it keeps nothing" }),
    });
    await sees("it keeps nothing");
  });
});

describe("the calendar", () => {
  const upcoming = {
    words: "every day at 02:30",
    runs: [
      { at: "2027-03-28T02:30:00+01:00", note: "02:30 does not exist on that day: it is begun when the clocks have been put forward" },
    ],
  };
  const entry = (over: Partial<Entry> = {}): Entry =>
    ({
      id: "e1",
      cluster: "ferries",
      clusters: 1,
      work: "backup",
      words: "every day at 02:30",
      paused: false,
      schedule: { zone: "UTC" },
      next: [{ at: noon }],
      ...over,
    }) as Entry;

  test("shows when it would run before it is saved, and what a clock change does", async () => {
    const { user } = show("/calendar", {
      "GET /clusters": [ferries()],
      "GET /policies": [{ name: "outer", clusters: ["ferries", "berths"] }],
      "GET /calendar": [],
      "POST /calendar/preview": upcoming,
      "POST /calendar": entry(),
    });
    await sees("Nothing is scheduled yet");
    await sees(/does not exist on that day/);
    await user.selectOptions(screen.getByLabelText("of"), await screen.findByText("policy outer (2 clusters)"));
    await user.selectOptions(screen.getByLabelText("kind"), "incremental");
    await user.click(screen.getByLabelText("sun"));
    await user.click(await button("Add a quiet window"));
    await user.click(await button("Save"));
    await waitFor(() => expect(asked).toHaveLength(1));
    expect(asked[0]!.body).toMatchObject({
      work: "backup",
      policy: "outer",
      detail: "incremental",
      schedule: {
        at: "02:30",
        weekdays: ["mon", "tue", "wed", "thu", "fri", "sat"],
        quiet: [{ from: "08:00", to: "18:00", weekdays: ["mon", "tue", "wed", "thu", "fri"] }],
      },
    });
  });

  test("saves nothing that never fires, nor without a cluster, but an audit of the store", async () => {
    const { user } = show("/calendar", {
      "GET /policies": [],
      "GET /calendar": [],
      "POST /calendar/preview": (body: unknown) =>
        (body as { schedule: { cron?: string } }).schedule.cron === "0 0 31 2 *"
          ? new Refusal(422, { title: "it cannot be put into the calendar", detail: "it never fires: there is no 31 February" })
          : upcoming,
      "POST /calendar": entry({ work: "audit" }),
    });
    const save = await button("Save");
    await sees(/does not exist/);
    expect(save).toHaveProperty("disabled", true);
    await user.selectOptions(screen.getByLabelText("work"), "audit of the store");
    await waitFor(() => expect(save).toHaveProperty("disabled", false));
    await user.selectOptions(screen.getByLabelText("when"), "by a cron expression");
    fireEvent.change(screen.getByLabelText("minute, hour, day, month, weekday"), { target: { value: "0 0 31 2 *" } });
    await sees(/it never fires/);
    expect(save).toHaveProperty("disabled", true);
    await user.selectOptions(screen.getByLabelText("when"), "every so many hours");
    await waitFor(() => expect(save).toHaveProperty("disabled", false));
    await user.click(save);
    await waitFor(() => expect(asked).toHaveLength(1));
    expect(asked[0]!.body).toMatchObject({ work: "audit", schedule: { everyHours: 6 } });
    expect(asked[0]!.body).not.toHaveProperty("cluster");
  });

  test("is paused and gone on with, and an entry goes only when its name is typed", async () => {
    const { user } = show("/calendar", {
      "GET /clusters": [ferries()],
      "GET /policies": [],
      "POST /calendar/preview": upcoming,
      "GET /calendar": [
        entry({ last: { at: noon, task: "01t", problem: "the store was full" } as Entry["last"] }),
        entry({ id: "e2", cluster: undefined, policy: "outer", clusters: 7, work: "keep", paused: true }),
      ],
      "PUT /calendar/e1/paused": {},
      "PUT /calendar/e2/paused": {},
      "DELETE /calendar/e2": {},
    });
    const rows = within(await screen.findByRole("table", { name: "Entries" })).getAllByRole("row");
    expect(rows[1]!.textContent).toContain("the store was full");
    expect(rows[2]!.textContent).toContain("policy outer (7 clusters)");
    await user.click(within(rows[1]!).getByRole("button", { name: "Pause" }));
    await user.click(within(rows[2]!).getByRole("button", { name: "Resume" }));
    await waitFor(() => expect(asked).toHaveLength(2));
    expect(asked).toEqual([
      { what: "PUT /calendar/e1/paused", body: { paused: true } },
      { what: "PUT /calendar/e2/paused", body: { paused: false } },
    ]);
    await user.click(within(rows[2]!).getByRole("button", { name: "Remove" }));
    const dialog = await screen.findByRole("dialog");
    await user.type(within(dialog).getByRole("textbox"), "outer");
    await user.click(within(dialog).getByRole("button", { name: "Remove" }));
    await waitFor(() => expect(asked.at(-1)!.what).toBe("DELETE /calendar/e2"));
  });
});

describe("getting ready", () => {
  const check = (over: Partial<Check>): Check => ({ id: "x", title: "X", state: "ok", found: "right", why: "because", ...over });
  const report = (...checks: Check[]) => ({ checks, facts: {} }) as unknown as Readiness;
  const lacking = report(
    check({ id: "version", title: "Version" }),
    check({ id: "sums", title: "Data checksums", state: "advised", found: "off", edit: ["stop the server first, then turn them on"] }),
    check({
      id: "level",
      title: "wal_level",
      state: "needed",
      found: "minimal",
      sql: ["ALTER SYSTEM SET wal_level = 'replica';"],
      after: "restart",
      effect: "Somewhat more WAL.",
    }),
    check({ id: "clock", title: "Clocks", state: "unknown", found: "not read", sql: ["SELECT now();"] }),
  );

  test("begins with what is needed, and fixes nothing before the name is typed", async () => {
    const { user } = show("/clusters/ferries/readiness", {
      "GET /clusters/ferries/readiness": lacking,
      "POST /readiness/apply": {
        applied: { sql: [], reloaded: false, restart: true },
        report: report(
          check({ id: "level", title: "wal_level" }),
          check({ id: "sums", title: "Data checksums", state: "advised", found: "off" }),
        ),
      },
    });
    await sees("ferries cannot be protected yet: 1 needed");
    const steps = within(screen.getByRole("list", { name: "Steps" })).getAllByRole("button");
    expect(steps.map((s) => s.textContent)).toEqual(["✕wal_levelneeded", "▲Data checksumsadvised", "?Clocksnot known", "✓Versionright"]);
    await sees("It takes effect when the server is restarted, which is left to you.");
    const run = await button("Run it and check again");
    expect(run).toHaveProperty("disabled", true);
    await user.type(screen.getByLabelText("password, not kept"), "ebb");
    await user.type(screen.getByLabelText("type ferries to confirm"), "ferries");
    await user.click(run);
    await sees("ferries can be protected; 1 advised");
    expect(asked).toEqual([
      {
        what: "POST /readiness/apply",
        body: { cluster: "ferries", checks: ["level"], as: "postgres", asPassword: "ebb", confirm: "ferries" },
      },
    ]);
  });

  test("goes from step to step, and offers to run only what fixes", async () => {
    const { user } = show("/clusters/ferries/readiness", { "GET /clusters/ferries/readiness": lacking });
    await user.click(await button("Next step"));
    await sees(/stop the server first/);
    expect(screen.queryByRole("button", { name: "Run it and check again" })).toBeNull();
    await user.click(await button("Next step"));
    await sees("SELECT now();");
    expect(screen.queryByRole("button", { name: "Run it and check again" })).toBeNull();
  });

  test("of a cluster that lacks nothing says so", async () => {
    show("/clusters/ferries/readiness", { "GET /clusters/ferries/readiness": report(check({ id: "version", title: "Version" })) });
    await sees("ferries lacks nothing");
  });
});
