// @vitest-environment jsdom
import "../testing/setup";
import { screen, waitFor, within } from "@testing-library/react";
import { describe, expect, test } from "vitest";
import type { Host } from "../api";
import { asked, button, noon, sees, show } from "../testing/console";

const host = (over: Partial<Host> = {}): Host => ({
  id: "01h",
  name: "spare",
  connected: true,
  seenAt: noon,
  joinedAt: noon,
  address: "10.0.0.9",
  velvet: "1.0",
  users: ["postgres"],
  directory: "/srv/velvet/copies",
  majors: [15, 17],
  free: 1 << 30,
  memory: 1 << 30,
  cores: 2,
  mostCopies: 2,
  mostBytes: 0,
  databases: ["/var/lib/postgresql"],
  clusters: ["saltmarsh"],
  copies: ["ferries-1"],
  ...over,
});

describe("hosts: which machines there are, and what stands on each", () => {
  test("what is out of reach comes first in words, and a copy is a click away", async () => {
    show("/hosts", { "GET /hosts": [host(), host({ id: "02h", name: "quay", connected: false, copies: [], mostCopies: 1 })] });
    await sees("1 host of 2 out of reach.");
    await sees("connected");
    expect(screen.getAllByRole("link", { name: "saltmarsh" }).length).toBe(2);
    await sees(/out of reach since/);
    await sees("2 copies");
    expect((await screen.findByRole("link", { name: "ferries-1" })).getAttribute("href")).toBe("/copies/ferries-1");
  });

  test("a word is given, with what to do with it", async () => {
    const { user } = show("/hosts", {
      "GET /hosts": [],
      "POST /hosts": { name: "quay", word: "abc.def", address: "rewind:8418", until: noon },
    });
    await sees("There is no host but the service's own.");
    await user.type(await screen.findByLabelText("name"), "quay");
    await user.click(await button("Give a word"));
    await sees("velvet host join rewind:8418");
    await sees("abc.def");
    expect(asked).toEqual([{ what: "POST /hosts", body: { name: "quay" } }]);
  });

  test("removing one takes its name", async () => {
    const { user } = show("/hosts", { "GET /hosts": [host()], "DELETE /hosts/spare": "" });
    await user.click(await button("Remove"));
    const dialog = within(await screen.findByRole("dialog"));
    await user.type(dialog.getByRole("textbox"), "spare");
    await user.click(dialog.getByRole("button", { name: "Remove" }));
    await waitFor(() => expect(asked.map((a) => a.what)).toEqual(["DELETE /hosts/spare"]));
  });
});
