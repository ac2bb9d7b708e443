// @vitest-environment jsdom
import "../testing/setup";
import { screen, waitFor, within } from "@testing-library/react";
import { describe, expect, test } from "vitest";
import type { Rescue } from "../api";
import { asked, button, copy, noon, sees, show, task } from "../testing/console";

const rescue = (over: Partial<Rescue> = {}): Rescue => ({
  id: "01r",
  cluster: "ferries",
  copy: "ferries-1",
  moment: "before tx 13",
  transaction: 13,
  state: "planned",
  database: "saltmarsh",
  begunAt: noon,
  endedAt: noon,
  task: "01t",
  made: [],
  unable: ["1 row that it inserted into crew.shift stays"],
  runs: ["trigger audit of fare, of purser"],
  checks: [],
  tables: [
    {
      table: "public.fare",
      key: "id",
      did: "1,344 updated",
      rows: 1344,
      missing: 0,
      overwritten: 1342,
      right: 0,
      changed: 1,
      gone: 1,
      orphans: 0,
      taken: 0,
      unsettled: 2,
      inserts: 0,
      updates: 1342,
      notes: [],
      conflicts: [
        { how: "changed since", key: "7", do: "stop", columns: [{ name: "cents", old: "455", live: "999" }] },
        { how: "deleted since", key: "8", do: "stop", columns: [] },
      ],
    },
  ],
  ...over,
});

const page = (last?: Rescue) =>
  show("/copies/01c/rescue", {
    "GET /copies/01c": copy({ state: "paused" }),
    "GET /rescues": last ? [last] : [],
    "GET /rescues/01r": last,
    "POST /copies/01c/rescues": task({ kind: "rescue" }),
  });

describe("rescue: what was taken, what stands in the way, and how it comes back", () => {
  test("first it only compares", async () => {
    const { user } = page();
    await user.click(await button("Compare"));
    await waitFor(() => expect(asked).toEqual([{ what: "POST /copies/01c/rescues", body: { settle: [], open: true, mode: "plan" } }]));
    expect(screen.queryByRole("button", { name: "Try it" })).toBeNull();
  });

  test("what stands in the way is settled for all, or row by row", async () => {
    const { user } = page(rescue());
    await sees("Transaction 13 took 1,344 rows.");
    await sees("deleted since");
    await sees("trigger audit of fare, of purser.");
    await user.selectOptions(await screen.findByRole("combobox", { name: "all rows" }), "keep-live");
    await user.selectOptions(await screen.findByRole("combobox", { name: "public.fare 8" }), "take-old");
    await user.click(await button("Try it"));
    await waitFor(() =>
      expect(asked.map((a) => a.body)).toEqual([{ settle: ["keep-live", "public.fare:8=take-old"], open: true, mode: "try" }]),
    );
    expect(screen.queryByRole("button", { name: "Bring the rows back" })).toBeNull();
  });

  test("the word is the cluster's name, after it was tried", async () => {
    const checks = [{ name: "others untouched", verdict: "passed" as const, summary: "2 other rows are what they were" }];
    const { user } = page(rescue({ state: "tried", checks }));
    await sees("1,342 rows would come back. Nothing was changed yet.");
    await sees("2 other rows are what they were");
    await user.click(await button("Bring the rows back"));
    const dialog = within(await screen.findByRole("dialog"));
    await user.type(dialog.getByRole("textbox"), "ferries");
    await user.click(dialog.getByRole("button", { name: "Bring the rows back" }));
    await waitFor(() => expect(asked.at(-1)?.body).toEqual({ settle: [], open: true, mode: "apply", confirm: "ferries" }));
  });

  test("several transactions, in batches", async () => {
    const { user } = page(rescue({ state: "tried", also: [17] }));
    await user.type(await screen.findByRole("textbox", { name: "Other transactions, undone with it" }), "17, x");
    await sees(/x is none/);
    expect((await button("Try it")).hasAttribute("disabled")).toBe(true);
    await user.type(await screen.findByRole("textbox", { name: "Other transactions, undone with it" }), "{Backspace}19");
    await user.type(await screen.findByRole("spinbutton", { name: "Rows in one transaction" }), "500");
    await user.type(await screen.findByRole("spinbutton", { name: "Seconds between two" }), "0.5");
    await user.click(await button("Bring the rows back"));
    const dialog = within(await screen.findByRole("dialog"));
    await user.type(dialog.getByRole("textbox"), "ferries");
    await user.click(dialog.getByRole("button", { name: "Bring the rows back" }));
    const wish = { also: [17, 19], atOnce: 500, pause: 0.5, settle: [], open: true };
    await waitFor(() => expect(asked.at(-1)?.body).toEqual({ ...wish, mode: "apply", confirm: "ferries" }));
  });

  test("what was dropped without a row", async () => {
    page(rescue({ tables: [], unable: [], made: ["function public.toll(integer)"] }));
    await sees("Transaction 13 dropped one object, and took no row.");
    await sees("function public.toll(integer).");
  });
});
