// How the list of clusters is narrowed and sorted, without drawing it.
import type { Cluster } from "../api";

export type Sort = "needs" | "name" | "reach" | "promise" | "lag" | "base" | "proof";

const kinds = ["capture", "store", "no base", "hole", "promise", "late", "clock", "incident", "damage"];

// rank tells how bad the worst need of a cluster is: 0 for none, higher is worse.
export const rank = (c: Cluster): number => Math.max(0, ...(c.needs ?? []).map((n) => kinds.length - kinds.indexOf(n.kind)));

const time = (t?: string) => (t ? Date.parse(t) : 0);

const orders: Record<Sort, (a: Cluster, b: Cluster) => number> = {
  needs: (a, b) => rank(b) - rank(a),
  name: () => 0,
  reach: (a, b) => time(a.promise.heldFrom) - time(b.promise.heldFrom),
  promise: (a, b) => Number(a.promise.held) - Number(b.promise.held),
  lag: (a, b) => b.capture.lagBytes - a.capture.lagBytes,
  base: (a, b) => time(a.lastBackup?.stoppedAt) - time(b.lastBackup?.stoppedAt),
  proof: (a, b) => time(a.lastProof?.finishedAt) - time(b.lastProof?.finishedAt),
};

// narrowed keeps the clusters of which the name, the policy or a label holds every word.
export function narrowed(list: Cluster[], words: string, onlyAttention: boolean, sort: Sort): Cluster[] {
  const wanted = words.toLowerCase().split(/\s+/).filter(Boolean);
  return list
    .filter((c) => !onlyAttention || rank(c) > 0)
    .filter((c) => {
      const text = [c.name, c.policy ?? "", ...Object.entries(c.labels ?? {}).map(([k, v]) => `${k}=${v}`)].join(" ").toLowerCase();
      return wanted.every((w) => text.includes(w));
    })
    .sort((a, b) => orders[sort](a, b) || a.name.localeCompare(b.name));
}
