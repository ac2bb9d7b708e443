// @vitest-environment jsdom
import "../testing/setup";
import { fireEvent, screen, waitFor, within } from "@testing-library/react";
import { describe, expect, test } from "vitest";
import type { Deck, MomentAnswer, Transaction } from "../api";
import { asked, base, button, copy, ferries, noon, Refusal, sees, show, task } from "../testing/console";

const at = (minutes: number) => new Date(Date.parse(noon) + minutes * 60_000).toISOString();

const span = { timeline: 1, base: "01b", from: "0/1000000", to: "0/9000000", fromTime: at(0), toTime: at(60) };
const incident = { cluster: "ferries", xid: 13, time: at(30), lsn: "0/5000000", reasons: ["17,000 rows of booking were deleted"] };
const whole = (over = {}) => ferries({ reach: [span], incidents: [incident], ...over });

const deck: Deck = {
  from: at(0),
  to: at(60),
  reach: [span],
  restorePoints: [{ name: "low tide", time: at(10), lsn: "0/2000000" }],
  bases: [{ name: "01b", time: at(0), lsn: "0/1000000" }],
  incidents: [incident],
  holes: [],
  rates: [{ from: at(0), transactions: 5, inserted: 3, updated: 0, deleted: 17000, losses: 0 }],
};

// Transactions 10 to 16, one every ten minutes.
const known: Transaction[] = Array.from({ length: 7 }, (_, n) => ({
  xid: 10 + n,
  committed: true,
  time: at(10 * n),
  lsn: `0/${n + 2}000000`,
  first: "0/1",
  tables: [],
  subtransactions: 0,
  partial: false,
  newDatabases: 0,
  droppedDatabases: 0,
  bytes: 1,
  settled: false,
}));

// resolve answers "tx N", "before tx N" and "latest" as the service does.
const resolve = (body: unknown): MomentAnswer | Refusal => {
  const { moment } = body as { moment: string };
  const asks = /^(before )?tx (\d+)$/.exec(moment);
  if (moment !== "latest" && !asks)
    return new Refusal(422, { title: "the moment cannot be read", detail: `moment "${moment}", byte 0: it is no moment`, at: 0 });
  const kept = asks ? Number(asks[2]) - 10 + (asks[1] ? 0 : 1) : known.length;
  if (kept > known.length) return new Refusal(422, { title: "the moment is out of reach", detail: "it has not begun" });
  const ends = (t?: Transaction) => t && { xid: t.xid, lsn: t.lsn, time: t.time };
  return {
    moment,
    around: known,
    kept,
    plan: copy().plan,
    boundary: {
      moment,
      timeline: 1,
      stop: known[kept]?.lsn ?? "0/9000000",
      end: "0/9000000",
      inclusive: !asks?.[1],
      lastIn: ends(known[kept - 1]),
      firstOut: ends(known[kept]),
    },
    cost: { transactions: known.length - kept, tables: kept < 4 ? [{ table: "booking", inserted: 0, updated: 0, deleted: 17000 }] : [] },
  };
};

const answers = (over = {}) => ({
  "GET /clusters/ferries": whole(),
  "GET /clusters/ferries/backups": [base()],
  "GET /copies": [],
  "GET /clusters/ferries/deck": deck,
  "POST /clusters/ferries/moment": resolve,
  ...over,
});

describe("a cluster", () => {
  test("that has no base cannot be rewound yet, and has no deck", async () => {
    const { user } = show(
      "/clusters/ferries",
      answers({ "GET /clusters/ferries": ferries(), "GET /clusters/ferries/backups": [], "POST /clusters/ferries/backups": task() }),
    );
    await sees("cannot be rewound yet: it has no base backup");
    expect(screen.queryByRole("region", { name: "Rewind deck" })).toBeNull();
    await user.click(await button("Take a base backup"));
    await waitFor(() => expect(asked.map((a) => a.what)).toEqual(["POST /clusters/ferries/backups"]));
  });

  test("tells every cause of a hole once, and why its capture waits", async () => {
    const hole = (cause: string) => ({ timeline: 1, from: "0/1", to: "0/2", cause, meant: false });
    show(
      "/clusters/ferries",
      answers({
        "GET /clusters/ferries": whole({
          holes: [hole("the slot was lost"), hole("the slot was lost"), hole("it was deleted by rule")],
          capture: { ...ferries().capture, state: "retrying", problem: "it cannot be reached" },
        }),
      }),
    );
    await sees(/but for what is cross-hatched below: the slot was lost; it was deleted by rule$/);
    await sees("✕ capture: it cannot be reached");
  });

  test("leads from an incident to just before it, and lets it be settled", async () => {
    const { user, router } = show("/clusters/ferries", answers({ "POST /clusters/ferries/incidents/13/settle": {} }));
    await user.click(await button("Go to just before it"));
    await waitFor(() => expect(router.state.location.search).toEqual({ moment: "before tx 13" }));
    await sees("Going back here undoes 4 transactions");
    await user.click(await button("Intended"));
    await waitFor(() => expect(asked.map((a) => a.what)).toEqual(["POST /clusters/ferries/incidents/13/settle"]));
  });

  test("keeps what can be looked at in tables that say what they hold", async () => {
    show(
      "/clusters/ferries",
      answers({ "GET /copies": [copy({ state: "open" })], "GET /clusters/ferries/backups": [base({ pageFaults: 3 })] }),
    );
    expect((await screen.findByRole("region", { name: "Copies" })).textContent).toMatch(/ferries-1.*before tx 1759.*open.*33889.*none/);
    await waitFor(() =>
      expect(screen.getByRole("region", { name: "Base backups" }).textContent).toMatch(
        /01b.*incremental.*113\.0 MiB.*8\.0 MiB.*700\.0 KiB.*14,072.*✕3/,
      ),
    );
  });
});

describe("the rewind deck", () => {
  test("makes a side copy of the very moment that it shows", async () => {
    const { user, router } = show(
      "/clusters/ferries?moment=before+tx+13",
      answers({
        "POST /clusters/ferries/copies": task({ kind: "side copy", subject: "01c" }),
        "GET /copies/01c": copy({ state: "laying out" }),
        "GET /tasks/01t": task({ state: "running" }),
        "GET /tasks/01t/lines": [],
      }),
    );
    await user.click(await button("Make a side copy here"));
    await waitFor(() => expect(router.state.location.pathname).toBe("/copies/01c"));
    expect(asked).toEqual([{ what: "POST /clusters/ferries/copies", body: { moment: "before tx 13" } }]);
    await sees("The copy is being laid out.");
  });

  test("steps from transaction to transaction by the arrow keys, and stops at the end", async () => {
    const { router } = show("/clusters/ferries?moment=before+tx+13", answers());
    await sees("Going back here undoes 4 transactions");
    const press = async (key: string, moment: string) => {
      fireEvent.keyDown(window, { key });
      await waitFor(() => expect(router.state.location.search).toMatchObject({ moment }));
      await screen.findByText((_, e) => e?.getAttribute("aria-label")?.includes(`playhead at ${moment}`) ?? false);
    };
    await press("ArrowRight", "tx 13");
    await sees("Going back here undoes 3 transactions");
    await press("ArrowRight", "tx 14");
    await press("ArrowLeft", "before tx 14");
    await press("ArrowLeft", "before tx 13");
  });

  test("keeps a wrong moment and points at its place, and says what is possible where nothing is", async () => {
    const { user, router } = show("/clusters/ferries?moment=ebb", answers());
    await sees(/it is no moment/);
    expect(screen.queryByRole("button", { name: "Make a side copy here" })).toBeNull();
    const field = await screen.findByLabelText("Moment to go back to");
    await user.clear(field);
    await user.type(field, "tx 99");
    await sees("it has not begun");
    expect(router.state.location.search).toEqual({ moment: "tx 99" });
  });

  test("draws what was lost so that one row beside seventeen thousand is seen, and names what is on it", async () => {
    show("/clusters/ferries?moment=latest", answers());
    const picture = await screen.findByRole("img", { name: /^Reach of ferries: .*; playhead at latest$/ });
    expect(picture.querySelectorAll("title, text").length).toBeGreaterThan(0);
    await sees("Nothing known was committed later");
    expect(within(await screen.findByRole("region", { name: "Rewind deck" })).getByRole("button", { name: /all keys/ })).toBeTruthy();
    fireEvent.keyDown(window, { key: "?" });
    expect((await screen.findByRole("dialog")).textContent).toContain("←");
  });
});
