import { expect, test } from "vitest";
import type { Cluster } from "../api";
import { narrowed, rank } from "./fleet";

// cluster makes as much of a cluster as the list looks at.
function cluster(
  name: string,
  of: { needs?: string[]; labels?: Record<string, string>; policy?: string; lag?: number; heldFrom?: string; held?: boolean } = {},
): Cluster {
  return {
    id: name,
    name,
    policy: of.policy,
    labels: of.labels ?? {},
    needs: (of.needs ?? []).map((kind) => ({ kind, text: kind })),
    capture: { lagBytes: of.lag ?? 0 },
    promise: { held: of.held ?? true, heldFrom: of.heldFrom },
  } as unknown as Cluster;
}

const names = (list: Cluster[]) => list.map((c) => c.name).join(" ");

const list = [
  cluster("tides", { policy: "outer", labels: { fleet: "outer" }, lag: 5 }),
  cluster("berths", { needs: ["late"], labels: { fleet: "inner", site: "north" }, heldFrom: "2027-01-02T00:00:00Z" }),
  cluster("lights", {
    needs: ["damage", "capture"],
    labels: { fleet: "outer", site: "north" },
    held: false,
    heldFrom: "2027-01-01T00:00:00Z",
  }),
  cluster("crews", { lag: 900 }),
];

test("the worst need counts, and a stopped capture is the worst", () => {
  expect(rank(list[2]!)).toBe(rank(cluster("x", { needs: ["capture"] })));
  expect(rank(list[2]!)).toBeGreaterThan(rank(list[1]!));
  expect(rank(list[0]!)).toBe(0);
});

test("what needs attention comes first, then the names", () => {
  expect(names(narrowed(list, "", false, "needs"))).toBe("lights berths crews tides");
  expect(names(narrowed(list, "", true, "needs"))).toBe("lights berths");
  expect(names(list)).toBe("tides berths lights crews");
});

test("every word must be in the name, the policy or a label", () => {
  expect(names(narrowed(list, "fleet=outer", false, "name"))).toBe("lights tides");
  expect(names(narrowed(list, " NORTH outer ", false, "name"))).toBe("lights");
  expect(names(narrowed(list, "west", false, "name"))).toBe("");
});

test("sorted by a column, what is worst in it comes first", () => {
  expect(names(narrowed(list, "", false, "lag"))).toBe("crews tides berths lights");
  expect(names(narrowed(list, "", false, "promise"))).toBe("lights berths crews tides");
  expect(names(narrowed(list, "north", false, "reach"))).toBe("lights berths");
});
