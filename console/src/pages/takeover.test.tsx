// @vitest-environment jsdom
import "../testing/setup";
import { screen, waitFor, within } from "@testing-library/react";
import { describe, expect, test } from "vitest";
import type { Takeover } from "../api";
import { asked, button, copy, noon, sees, show, task } from "../testing/console";

const loss = "ferries is stopped, and serves again as it was before tx 13: of what committed since, 2 transactions are undone";

const plan = (over: Partial<NonNullable<Takeover["plan"]>> = {}): Takeover => ({
  cluster: "ferries",
  copy: "ferries-1",
  moment: "before tx 13",
  original: { dataDirectory: "/var/lib/postgresql/15/main", user: "postgres", arguments: [], running: true },
  aside: ["/var/lib/postgresql/15/main.velvet-aside-20270310T120000Z"],
  plan: {
    boundary: copy().plan.boundary,
    cost: { transactions: 2, tables: [{ table: "booking", inserted: 0, updated: 0, deleted: 20_000, operations: [] }] },
    connected: [{ role: "purser", application: "psql", address: "10.0.0.7", sessions: 2 }],
    standbys: [{ role: "replicator", sessions: 1 }],
    brought: [],
    obstacles: [],
    loss,
    ...over,
  },
});

const begun = (over: Partial<Takeover>): Takeover => ({ ...plan(), id: "01t", plan: undefined, begunAt: noon, ...over });

const walk = (of: Takeover, list: Takeover[] = [], more: Record<string, unknown> = {}) =>
  show("/copies/01c/takeover", { "GET /copies/01c/takeover": of, "GET /clusters/ferries/takeovers": list, ...more });

describe("takeover: what happens, how far it is, and the way back", () => {
  test("a copy that was not proved is proved before the word is asked for", async () => {
    const { user } = walk(plan(), [], { "POST /copies/01c/proofs": task({ kind: "proof" }) });
    await sees("Put this copy in the place of ferries?");
    await sees(loss + ".");
    await sees("2 sessions of purser, psql, from 10.0.0.7");
    await sees("1 standby of replicator");
    await sees(/everything is put back by itself/);
    expect(screen.queryByRole("button", { name: "Take over" })).toBeNull();
    await user.click(await button("Prove the copy first"));
    await waitFor(() => expect(asked.map((a) => a.what)).toEqual(["POST /copies/01c/proofs"]));
  });

  test("the word is the cluster's name", async () => {
    const { user } = walk(plan({ verdict: "passed", brought: ["/mnt/fast"] }), [], {
      "POST /copies/01c/takeover": task({ kind: "takeover" }),
    });
    await sees("to another file system, beside /mnt/fast");
    await user.click(await screen.findByRole("checkbox"));
    await user.click(await button("Take over"));
    const dialog = within(await screen.findByRole("dialog"));
    await user.type(dialog.getByRole("textbox"), "ferries");
    await user.click(dialog.getByRole("button", { name: "Take over" }));
    await waitFor(() => expect(asked).toEqual([{ what: "POST /copies/01c/takeover", body: { confirm: "ferries", refuseClients: true } }]));
  });

  test.each([
    [plan({ verdict: "failed" }), [], "read what the proof found"],
    [
      plan({
        obstacles: [
          { type: "about:blank", title: "the original was not touched", status: 409, detail: "the copy is open", next: "Make one." },
        ],
      }),
      [],
      /the copy is open/,
    ],
    [plan(), [begun({ step: "placing" })], "ferries is being taken over: placing."],
    [plan(), [begun({ step: "in service", endedAt: noon, keptUntil: noon })], "ferries serves again, as it was before tx 13."],
    [plan(), [begun({ step: "as before", endedAt: noon, problem: "starting: no" })], /starting: no/],
  ])("what stands in the way, and how it stands, is told (%#)", async (of, list, says) => {
    walk(of, list);
    await sees(says);
    expect(screen.queryByRole("button", { name: "Take over" })).toBeNull();
    await screen.findByRole("region", { name: "The way back" });
  });
});
