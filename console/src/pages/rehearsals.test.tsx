// @vitest-environment jsdom
import "../testing/setup";
import { fireEvent, screen, waitFor } from "@testing-library/react";
import { expect, test } from "vitest";
import type { DigestLine, Rehearsal } from "../api";
import { asked, button, noon, sees, show } from "../testing/console";

const line = (over: Partial<DigestLine>): DigestLine => ({
  cluster: "ferries",
  standing: "proved",
  promiseKept: true,
  objective: { backWithinSeconds: 0, losingAtMostSeconds: 0 },
  runs: 2,
  good: 2,
  backSeconds: 90,
  worstSeconds: 95,
  trend: 0,
  failures: [],
  days: {},
  ...over,
});

const run = (over: Partial<Rehearsal>): Rehearsal => ({
  id: "r1",
  cluster: "ferries",
  pick: "latest",
  askedBy: "the calendar",
  try: 1,
  endedAt: noon,
  outcome: "passed",
  laidOutSeconds: 60,
  replayedSeconds: 20,
  provedSeconds: 10,
  bytes: 1,
  walBytes: 1,
  ...over,
});

test("rehearsals: which clusters could not be brought back comes first, each with its runs and days", async () => {
  const day = noon.slice(0, 10);
  show("/rehearsals", {
    "GET /rehearsals/digest": {
      from: "2027-02-01T12:00:00Z",
      to: noon,
      first: "1 of 2 clusters could not be brought back today: barge.",
      lines: [
        line({
          cluster: "barge",
          standing: "cannot be brought back",
          why: "WAL is missing",
          last: run({ id: "r2" }),
          days: { [day]: "no copy" },
          good: 0,
          backSeconds: 0,
        }),
        line({ objective: { backWithinSeconds: 60, losingAtMostSeconds: 0 }, kept: false, last: run({}), days: { [day]: "passed" } }),
      ],
    },
    "GET /rehearsals": [
      run({}),
      run({ id: "r3" }),
      run({ id: "r2", cluster: "barge", outcome: "no copy", laidOutSeconds: 0, replayedSeconds: 0, provedSeconds: 0 }),
    ],
    "POST /clusters/barge/rehearsals": { id: "t" },
  });
  await sees("1 of 2 clusters could not be brought back today: barge.");
  await sees("WAL is missing");
  expect(screen.getByRole("img", { name: "2 runs, the longest 1 min 30 s; to be back in 1 min 0 s" })).toBeTruthy();
  expect(screen.getByRole("img", { name: /^0 days passed, 1 not, of 30/ })).toBeTruthy();
  fireEvent.click(screen.getAllByRole("button", { name: "Rehearse" })[0]!);
  await waitFor(() => expect(asked.map((a) => a.what)).toContain("POST /clusters/barge/rehearsals"));
  await button("Download for print");
});
