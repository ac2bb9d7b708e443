// @vitest-environment jsdom
import "../testing/setup";
import { screen, waitFor } from "@testing-library/react";
import { describe, expect, test } from "vitest";
import type { Transaction } from "../api";
import { asked, button, copy, ferries, noon, Refusal, sees, show, task } from "../testing/console";

const at = (minutes: number) => new Date(Date.parse(noon) + minutes * 60_000).toISOString();
const transaction = (over: Partial<Transaction> = {}): Transaction => ({
  xid: 4049,
  committed: true,
  time: at(30),
  lsn: "0/5000000",
  first: "0/4000000",
  database: "saltmarsh",
  tables: [{ table: "fare", inserted: 0, updated: 1344, deleted: 0 }],
  subtransactions: 0,
  partial: false,
  newDatabases: 0,
  droppedDatabases: 0,
  bytes: 2048,
  settled: false,
  incident: ["1,344 rows of fare were updated, of some 1,344"],
  ...over,
});

// changes answers what was committed before the accident began, what meanwhile, and what is looked for.
const changes = (_: unknown, url: URL) => {
  const q = url.searchParams;
  if (q.get("kind") || q.get("minRows") || q.get("table") || q.get("by")) {
    const found = (q.get("kind") === "update" || q.get("by") === "clerk") && q.get("minRows") !== "5000" && q.get("order") === "biggest";
    return { transactions: found ? [transaction()] : [], more: false };
  }
  if (q.get("order") === "newest") return { transactions: [transaction({ xid: 4040, time: at(10), incident: [] })], more: true };
  const booking = { table: "booking", inserted: 1, updated: 0, deleted: 0 };
  return {
    transactions: [transaction({ xid: 4041, time: at(20), incident: [], tables: [booking] })],
    more: q.get("before") !== "0/5000000",
  };
};

// rows of a fare: one of which the WAL holds what it was, one of which it does not.
const cell = (column: string, value: string | null, why?: string) => ({ column, value, why });
const rows = (_: unknown, url: URL) => ({
  xid: 4049,
  more: true,
  rows:
    url.searchParams.get("table") !== "fare"
      ? []
      : [
          {
            operation: "update",
            table: "fare",
            place: "(0,1)",
            lsn: "0/4000010",
            before: [cell("id", "1"), cell("cents", "335"), cell("note", null)],
            after: [cell("id", "1"), cell("cents", "1"), cell("note", null)],
          },
          {
            operation: "update",
            table: "fare",
            place: "(0,2)",
            lsn: "0/4000020",
            why: "the WAL that was read holds only a part of the row",
          },
        ],
  look: [{ moment: "before tx 4049", query: "select ctid, * from fare where ctid = any ('{(0,2)}')" }],
});

const answers = (over = {}) => ({
  "GET /clusters/ferries": ferries({
    reach: [{ timeline: 1, base: "01b", from: "0/1000000", to: "0/9000000", fromTime: at(0), toTime: at(60) }],
    incidents: [{ cluster: "ferries", xid: 4049, time: at(30), lsn: "0/5000000", reasons: ["1,344 rows of fare were updated"] }],
  }),
  "GET /clusters/ferries/backups": [],
  "GET /copies": [],
  "GET /clusters/ferries/deck": { from: at(0), to: at(60), reach: [], holes: [], bases: [], restorePoints: [], incidents: [], rates: [] },
  "POST /clusters/ferries/moment": new Refusal(422, { title: "not now" }),
  "GET /clusters/ferries/changes": changes,
  "GET /clusters/ferries/changes/4049": { transactions: [transaction()], more: false },
  "GET /clusters/ferries/changes/4049/rows": rows,
  ...over,
});

describe("an incident", () => {
  test("tells what was done, when, and what others committed meanwhile", async () => {
    const { user, router } = show("/clusters/ferries", answers());
    await user.click(await screen.findByRole("link", { name: "4049" }));
    await waitFor(() => expect(router.state.location.pathname).toBe("/clusters/ferries/incidents/4049"));
    expect((await screen.findByRole("heading", { level: 1 })).textContent).toContain("1,344 rows of fare were updated, of some 1,344");
    await waitFor(() => expect(screen.getByRole("region", { name: "When" }).textContent).toMatch(/after .* tx 4040 was committed/));
    const others = await screen.findByRole("region", { name: "Committed meanwhile" });
    await waitFor(() => expect(others.textContent).toMatch(/4041.*\+1booking/));
    expect(others.textContent).not.toContain("These are the first");
    expect((await screen.findByRole("region", { name: "What it did" })).textContent).toContain("1,344");
    const changed = await screen.findByRole("region", { name: "Rows that it changed" });
    await waitFor(() => expect(changed.textContent).toMatch(/update\(0,1\)1335 → 1NULL/));
    expect(changed.textContent).toMatch(/1 of these rows are not in the WAL.*“before tx 4049”.*ctid = any/);
  });

  test("leads to a copy just before it, and can be declared normal", async () => {
    const { user, router } = show(
      "/clusters/ferries/incidents/4049",
      answers({
        "POST /clusters/ferries/incidents/4049/settle": {},
        "POST /clusters/ferries/copies": task({ kind: "side copy", subject: "01c" }),
        "GET /copies/01c": copy({ state: "laying out" }),
        "GET /tasks/01t": task({ state: "running" }),
        "GET /tasks/01t/lines": [],
      }),
    );
    await user.click(await button("Intended, and normal from now on"));
    await user.click(await button("Make a side copy just before it"));
    await waitFor(() => expect(router.state.location.pathname).toBe("/copies/01c"));
    expect(asked).toEqual([
      { what: "POST /clusters/ferries/incidents/4049/settle", body: { like: true } },
      { what: "POST /clusters/ferries/copies", body: { moment: "before tx 4049" } },
    ]);
  });

  test("that is none has no button to settle it", async () => {
    const author = { role: "clerk", application: "psql", statement: "alter table fare", first: noon, last: noon };
    const plain = transaction({ incident: [], partial: true, alterations: ["a column dropped"], author });
    show("/clusters/ferries/incidents/4049", answers({ "GET /clusters/ferries/changes/4049": { transactions: [plain], more: false } }));
    await sees("Transaction 4049");
    await sees("Altered: a column dropped.");
    await sees("alter table fare");
    expect(screen.getByRole("region", { name: "When" }).textContent).toContain("byclerk (psql)");
    await sees(/before the captured WAL, or/);
    expect(screen.queryByRole("button", { name: "Intended" })).toBeNull();
  });
});

describe("looking for transactions on the deck", () => {
  test("finds by kind, table and rows, and keeps that in the address", async () => {
    const { user, router } = show("/clusters/ferries", answers());
    await user.selectOptions(await screen.findByLabelText(/^Find/), "update");
    const found = await screen.findByRole("region", { name: "Found transactions" });
    await waitFor(() => expect(found.textContent).toMatch(/4049.*~1,344fare.*incident/));
    await waitFor(() => expect(document.querySelector("svg title")?.ownerDocument.body.innerHTML).toContain("found: tx 4049"));
    await user.type(screen.getByLabelText(/^of table/), "fare{Enter}");
    await waitFor(() => expect(router.state.location.search).toEqual({ kind: "update", table: "fare" }));
    await user.type(screen.getByLabelText(/^of at least/), "5000");
    await sees(/No transaction in the captured WAL, within what is shown above, matches/);
    await user.click(await button("All again"));
    await waitFor(() => expect(router.state.location.search).toEqual({}));
    await user.type(await screen.findByLabelText(/^by/), "clerk{Enter}");
    await waitFor(() => expect(router.state.location.search).toEqual({ by: "clerk" }));
    await screen.findByRole("region", { name: "Found transactions" });
    await user.click(await button("All again"));
    await user.selectOptions(await screen.findByLabelText(/^Find/), "update");
    await user.click((await screen.findByRole("region", { name: "Found transactions" })).querySelector("tbody tr")!);
    await waitFor(() => expect(router.state.location.search).toEqual({ kind: "update", moment: "before tx 4049" }));
  });
});
