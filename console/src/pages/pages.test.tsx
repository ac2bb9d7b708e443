// @vitest-environment jsdom
import "../testing/setup";
import { screen, waitFor, within } from "@testing-library/react";
import { describe, expect, test } from "vitest";
import { asked, base, button, copy, ferries, noon, Refusal, sees, show, task } from "../testing/console";

describe("the first page", () => {
  test("says that the service is gone, and what to look at", async () => {
    show("/", { "GET /clusters": new Refusal(503, { title: "the catalogue does not answer", next: "Is the catalogue up?" }) });
    expect(await screen.findByRole("alert")).toHaveProperty("textContent", expect.stringContaining("Is the catalogue up?"));
  });

  test("puts the worst first, each with the button that fixes it", async () => {
    const { user } = show("/", {
      "GET /clusters": [
        ferries(),
        ferries({
          id: "2",
          name: "berths",
          needs: [{ kind: "promise", text: "It cannot reach as far back as was promised.", command: "" }],
        }),
        ferries({
          id: "3",
          name: "lights",
          needs: [
            { kind: "capture", text: "Capture was stopped.", command: "" },
            { kind: "late", text: "late", command: "" },
          ],
          capture: { ...ferries().capture, state: "stopped", wanted: false },
        }),
      ],
      "POST /clusters/lights/capture/start": {},
    });
    const needs = await screen.findByRole("region", { name: "What needs attention" });
    await within(needs).findByText("2 of 3 clusters need attention");
    const text = needs.textContent!;
    expect(text.indexOf("lights")).toBeLessThan(text.indexOf("berths"));
    expect(text).toContain("And 1 more.");
    expect(within(needs).getByRole("link", { name: "Look at what it keeps" }).getAttribute("href")).toBe("/clusters/berths/keep");
    await user.click(within(needs).getByRole("button", { name: "Start the capture" }));
    await waitFor(() => expect(asked).toEqual([{ what: "POST /clusters/lights/capture/start", body: undefined }]));
  });

  test.each([
    [0, "Every cluster is captured and can be rewound."],
    [1, "pier-0 cannot be rewound yet: its first base backup is being taken."],
    [2, "2 clusters cannot be rewound yet: their first base backups are being taken."],
  ])("says only what holds while %d first base backups are being taken", async (n, says) => {
    const span = { timeline: 1, base: "01b", from: "0/1000000", to: "0/9000000", fromTime: noon, toTime: noon };
    const list = [0, 1, 2].map((i) => ferries({ id: `${i}`, name: `pier-${i}`, reach: i < n ? [] : [span] }));
    show("/", { "GET /clusters": list });
    expect((await screen.findByRole("heading", { level: 1 })).textContent).toBe(says);
  });

  test("narrows many by a label, keeps that in the address, and says when nothing fits", async () => {
    const many = Array.from({ length: 60 }, (_, n) =>
      ferries({ id: `${n}`, name: `pier-${n}`, labels: { fleet: n < 3 ? "outer" : "inner" } }),
    );
    const { user, router } = show("/", { "GET /clusters": many });
    const words = await screen.findByRole("searchbox");
    await sees("all 60 clusters");
    await user.type(words, "fleet=outer");
    await sees(/3 of 60/);
    expect(router.state.location.search).toEqual({ q: "fleet=outer" });
    await user.type(words, "x");
    await sees("No cluster fits. Take a word away.");
  });

  test("a failed button says why beside it", async () => {
    const { user } = show("/", {
      "GET /clusters": [ferries({ needs: [{ kind: "no base", text: "There is no base backup.", command: "" }] })],
      "POST /clusters/ferries/backups": new Refusal(409, { title: "no second backup was begun", detail: "one is under way already" }),
    });
    await user.click(await button("Take a base backup"));
    await sees("one is under way already");
  });
});

describe("a copy", () => {
  test.each([
    ["open", "The copy is open for writing, on a timeline of its own.", ["Prove it", "Discard"]],
    ["paused", "The copy stands at its moment, read-only.", ["Prove it", "Open for writing", "Discard", "Move the copy there"]],
    ["down", "The copy's server is not running.", ["Discard"]],
    ["discarded", "The copy has been discarded.", []],
  ])("that is %s offers what can be done with it", async (state, headline, buttons) => {
    show("/copies/01c", {
      "GET /copies/01c": copy({ state: state as "open" }),
      "POST /clusters/ferries/moment": new Refusal(422, { title: "no" }),
    });
    await sees(headline);
    const shown = within(document.querySelector("main") ?? document.body)
      .queryAllByRole("button")
      .map((b) => b.textContent);
    expect(shown.filter((b) => !b?.startsWith("Colours"))).toEqual(buttons);
  });

  test("shows what failed before what passed", async () => {
    show("/copies/01c", {
      "GET /copies/01c": copy({
        state: "open",
        proof: {
          id: "p",
          copy: "01c",
          moment: "latest",
          verdict: "failed",
          startedAt: noon,
          finishedAt: noon,
          task: "t",
          checks: [
            { name: "boundary", area: "boundary", seconds: 0.1, verdict: "passed", summary: "as planned" },
            {
              name: "content",
              area: "content",
              seconds: 2,
              verdict: "could not run",
              summary: "not read",
              next: "Look at the tables.",
              tables: [
                {
                  database: "saltmarsh",
                  oid: 1,
                  table: "public.booking",
                  copyRows: 5,
                  liveRows: 1205,
                  cause: "1,200 inserted since",
                  agrees: "passed",
                },
                { database: "saltmarsh", oid: 2, table: "public.torn", copyRows: 0, problem: "invalid page" },
              ],
            },
            { name: "pages", area: "bytes", seconds: 1, verdict: "failed", summary: "block 3: checksum" },
          ],
        },
      }),
    });
    await sees("The proof failed");
    const text = screen.getByRole("region", { name: "Proof" }).textContent!;
    expect(["block 3", "not read", "as planned"].map((t) => text.indexOf(t))).toEqual(
      [...["block 3", "not read", "as planned"].map((t) => text.indexOf(t))].sort((a, b) => a - b),
    );
    expect(text).toContain("To do: Look at the tables.");
    const rows = screen.getByRole("region", { name: "Tables compared" }).textContent!;
    expect(rows.indexOf("invalid page")).toBeLessThan(rows.indexOf("1,200 inserted since"));
  });

  test("is moved only to a moment that can be reached", async () => {
    const { user } = show("/copies/01c", {
      "GET /copies/01c": copy(),
      "POST /clusters/ferries/moment": (body: unknown) => {
        const { moment } = body as { moment: string };
        if (moment === "tx twelve")
          return new Refusal(422, {
            title: "the moment cannot be read",
            detail: 'moment "tx twelve", byte 3: "twelve" is not a transaction id',
            at: 3,
          });
        const known = { moment, boundary: { ...copy().plan.boundary, moment }, around: [], kept: 0, cost: { transactions: 0, tables: [] } };
        return moment === "tx 1" ? { ...known, why: "it lies before the first base backup" } : { ...known, plan: copy().plan };
      },
      "POST /copies/01c/step": task({ kind: "step copy" }),
    });
    const field = await screen.findByLabelText("Moment to go back to");
    const move = await button("Move the copy there");
    expect(move).toHaveProperty("disabled", true);
    await user.type(field, "tx twelve");
    await sees(/is not a transaction id/);
    expect(move).toHaveProperty("disabled", true);
    await user.clear(field);
    await user.type(field, "tx 1");
    await sees("it lies before the first base backup");
    expect(move).toHaveProperty("disabled", true);
    await user.type(field, "760");
    await waitFor(() => expect(move).toHaveProperty("disabled", false));
    await user.click(move);
    await waitFor(() => expect(asked.at(-1)).toEqual({ what: "POST /copies/01c/step", body: { moment: "tx 1760" } }));
  });

  test("is discarded only when its cluster's name is typed", async () => {
    const { user } = show("/copies/01c", {
      "GET /copies/01c": copy({ state: "down", problem: "its server is not running" }),
      "DELETE /copies/01c": task({ kind: "discard copy" }),
    });
    await user.click(await button("Discard"));
    const dialog = await screen.findByRole("dialog");
    await user.type(within(dialog).getByRole("textbox"), "ferry");
    expect(within(dialog).getByRole("button", { name: "Discard" })).toHaveProperty("disabled", true);
    await user.keyboard("{Enter}");
    expect(asked).toEqual([]);
    await user.clear(within(dialog).getByRole("textbox"));
    await user.type(within(dialog).getByRole("textbox"), "ferries");
    await user.click(within(dialog).getByRole("button", { name: "Discard" }));
    await waitFor(() => expect(asked.map((a) => a.what)).toEqual(["DELETE /copies/01c"]));
  });
});

describe("the store", () => {
  const store = (over = {}) => ({
    name: "/backups",
    id: "s",
    created: noon,
    encrypted: true,
    keyNumber: 2,
    keyMade: noon,
    measured: noon,
    clusters: [],
    ...over,
  });

  test("that is empty, in the clear and alone says all three", async () => {
    show("/store", { "GET /store": store({ encrypted: false }) });
    await sees("empty");
    await sees("no; whoever reads the store reads the data");
    await sees(/a lost disk loses every backup/);
    await sees("never");
  });

  test("tells how its bucket locks what it holds", async () => {
    show("/store", {
      "GET /store": store({
        locks: [{ store: "s3://ferries/", text: "what is deleted or replaced in the bucket stays in it for 7 days or more" }],
      }),
    });
    await sees("object lock");
    await sees("s3://ferries/: what is deleted or replaced in the bucket stays in it for 7 days or more");
  });

  test("tells what sharing saves, what is not copied, and what an audit found", async () => {
    const { user } = show("/store", {
      "GET /store": store({
        second: "/far",
        trouble: "no route to it",
        audit: { task: "01a", at: noon, full: true, findings: 2, costing: 1, behind: 7 },
        clusters: [
          {
            cluster: "ferries",
            known: true,
            backups: 12,
            held: 1000,
            packs: 30,
            wal: 5,
            journal: 1,
            objects: 1234,
            second: false,
            growth: [],
          },
          { cluster: "01lost", known: false, backups: 0, held: 0, packs: 0, wal: 9, journal: 0, objects: 1, second: true, growth: [] },
        ],
      }),
      "GET /store/audits/01a": {
        full: true,
        objects: 9,
        bytes: 9,
        findings: [
          { kind: "damaged", key: "wal/5", costs: true, detail: "a frame's hash is wrong" },
          { kind: "missing", key: "pack-1", elsewhere: true },
        ],
        losses: [{ cluster: "ferries", backups: ["01a"], reach: [{ timeline: 1, from: "0/5", to: "0/6" }] }],
      },
      "POST /store/audits": new Refusal(409, { title: "the store was not audited", detail: "an audit is under way" }),
    });
    await sees("97.0 %");
    await sees("not copied");
    await sees(/is not in the catalogue/);
    await sees(/the second store cannot be reached: no route to it/);
    expect((await screen.findByRole("region", { name: "Findings" })).textContent).toMatch(
      /1 base backup cannot be restored.*no moment from 0\/5 to 0\/6.*a frame's hash is wrong.*the second store has it whole/s,
    );
    await user.click(await button("Read every byte"));
    await sees("an audit is under way");
    expect(asked.at(-1)).toEqual({ what: "POST /store/audits", body: { full: true, fix: false } });
  });
});

describe("a base backup", () => {
  test("says what dropping it costs before anything is dropped", async () => {
    const { user, router } = show("/backups/01b", {
      "GET /backups/01b": base({ pageFaults: 2, lost: true }),
      "GET /backups/01b/content": {
        databases: [
          { oid: 0, name: "", files: 60, bytes: 1 },
          { oid: 9, name: "", files: 1, bytes: 1 },
        ],
        tablespaces: [],
        relations: [],
        moreTables: 0,
        catalogs: 5,
        other: 7,
        packs: 3,
        alone: 2 << 20,
        firstWal: "A",
        lastWal: "B",
      },
      "DELETE /backups/01b": (_: unknown, url: URL) =>
        url.searchParams.get("confirm") === "ferries"
          ? task({ kind: "drop backup" })
          : new Refusal(428, { title: "not dropped", detail: "ferries can no longer be rewound to moments before noon" }),
      "GET /clusters/ferries": ferries(),
    });
    await sees("2 of 14,072 damaged");
    await sees(/No plan begins with it/);
    await sees("shared catalogs");
    await sees("database 9");
    await sees(/The log is not kept/);
    await user.click(await button("Drop it"));
    const dialog = await screen.findByRole("dialog");
    expect(dialog.textContent).toContain("ferries can no longer be rewound to moments before noon");
    await user.type(within(dialog).getByRole("textbox"), "ferries");
    await user.click(within(dialog).getByRole("button", { name: "Drop it" }));
    await waitFor(() => expect(router.state.location.pathname).toBe("/clusters/ferries"));
  });

  test("that is gone says so", async () => {
    show("/backups/01b", {
      "GET /backups/01b": new Refusal(404, { title: "no such base backup", next: "List the backups with: velvet backup list" }),
    });
    await sees(/velvet backup list/);
  });
});

describe("tasks", () => {
  test("are told by what they do, did or met", async () => {
    show("/tasks", {
      "GET /clusters": [ferries()],
      "GET /tasks": [
        task({
          id: "a",
          state: "running",
          finishedAt: undefined,
          done: 1 << 20,
          total: 4 << 20,
          unit: "bytes",
          note: "reading",
          rate: 1 << 20,
          left: 3,
        }),
        task({ id: "b", state: "failed", problem: { type: "", title: "failed", status: 500, detail: "the store is full" } }),
        task({ id: "c", kind: "proof", outcome: { verdict: "passed" } }),
        task({ id: "d", outcome: { bytesStored: 2048 } }),
      ],
    });
    await sees(/1\.0 MiB of 4\.0 MiB.*reading.*1\.0 MiB\/s, some 3\.0 s left/);
    for (const text of ["the store is full", "verdict: passed", "2.0 KiB stored"]) await sees(text);
  });

  test("are filtered by the address, and asked for so", async () => {
    const asks: string[] = [];
    const { user, router } = show("/tasks?state=failed", {
      "GET /clusters": [ferries()],
      "GET /tasks": (_: unknown, url: URL) => (asks.push(url.search), []),
    });
    await sees("No task fits.");
    expect(asks).toContainEqual(expect.stringMatching(/^\?state=failed&/));
    await user.selectOptions(await screen.findByLabelText("kind"), "step copy");
    await waitFor(() => expect(router.state.location.search).toEqual({ state: "failed", kind: "step copy" }));
    await waitFor(() => expect(asks).toContainEqual(expect.stringContaining("kind=step")));
  });

  test("that failed are done again, which leads to the new one", async () => {
    const { user, router } = show("/tasks/01t", {
      "GET /tasks/01t": task({
        state: "failed",
        problem: { type: "", title: "the base backup was not taken", status: 507, detail: "the store is full", next: "Free or add space." },
      }),
      "GET /tasks/01t/lines": [],
      "GET /tasks/02t": task({ id: "02t", state: "running", finishedAt: undefined }),
      "GET /tasks/02t/lines": [{ number: 1, at: noon, level: "warning", text: "low tide" }],
      "POST /tasks/01t/retry": task({ id: "02t", state: "waiting", finishedAt: undefined }),
    });
    await sees("Free or add space.");
    await user.click(await button("Do it again"));
    await waitFor(() => expect(router.state.location.pathname).toBe("/tasks/02t"));
    await sees(/low tide/);
    await button("Cancel: remove what it has made");
  });
});

describe("base backups over time", () => {
  test("are sorted by what is asked, and are a CSV", async () => {
    const line = { cluster: "ferries", kind: "full", bytesHeld: 9, dropped: false };
    const { user } = show("/reports", {
      "GET /reports/backups": [
        { ...line, id: "old", stoppedAt: "2027-03-09T12:00:00Z", seconds: 75, bytesRead: 3 << 20, bytesStored: 1 << 20 },
        { ...line, id: "new", stoppedAt: noon, seconds: 1, bytesRead: 1 << 20, bytesStored: 1 << 10, dropped: true },
      ],
    });
    await sees(/2 base backups read 4\.0 MiB and stored 1\.0 MiB/);
    const order = () => screen.getAllByRole("row").map((r) => r.textContent!.slice(0, 3));
    expect(order()).toEqual(["Bas", "new", "old"]);
    await user.click(await button(/Read/));
    await waitFor(() => expect(order()).toEqual(["Bas", "old", "new"]));
    await sees("new (deleted)");
    const csv = decodeURIComponent(screen.getByRole("link", { name: "As CSV" }).getAttribute("href")!.split(",").slice(1).join(","));
    expect(csv.split("\n")).toHaveLength(3);
    expect(csv).toContain(`new,ferries,full,${noon},1,9,1048576,1024,true`);
  });
});

describe("the trail", () => {
  const entry = {
    number: 42,
    at: noon,
    who: "purser, with the owner's token",
    from: "10.0.0.7",
    did: "drop backup",
    cluster: "ferries",
    subject: "backup 01a",
    outcome: "refused: it is pinned",
    hash: "ab".repeat(32),
  };

  test("shows who did what, and pages to earlier entries", async () => {
    const { user, router } = show("/trail", { "GET /trail": [entry], "GET /trail/check": { entries: 42, last: entry.hash } });
    await sees("purser, with the owner's token");
    await sees("refused: it is pinned");
    await sees("42 entries, each as it was written");
    await user.click(screen.getByRole("button", { name: "Earlier" }));
    await waitFor(() => expect(router.state.location.search).toEqual({ before: 42 }));
  });

  test("says where it is not what was written", async () => {
    show("/trail", { "GET /trail": [entry], "GET /trail/check": { entries: 11, broken: "entry 12 is not what was written" } });
    await sees("entry 12 is not what was written");
  });
});
