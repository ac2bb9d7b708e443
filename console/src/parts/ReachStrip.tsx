import type { Cluster } from "../api";

type Ends = { from: number; to: number };

function ends(cluster: Cluster): Ends | undefined {
  const spans = cluster.reach ?? [];
  if (spans.length === 0) return undefined;
  const from = Math.min(...spans.map((s) => Date.parse(s.fromTime)));
  const to = Math.max(...spans.map((s) => Date.parse(s.toTime)));
  return { from, to: Math.max(to, from + 1) };
}

const share = (e: Ends, t: number) => Math.min(1, Math.max(0, (t - e.from) / (e.to - e.from)));

// ReachStrip is a cluster's reach as a thin band, for lists.
export function ReachStrip({ cluster }: { cluster: Cluster }) {
  const e = ends(cluster);
  if (!e)
    return (
      <svg viewBox="0 0 100 4" preserveAspectRatio="none" className="h-1 w-full" aria-hidden>
        <rect width="100" height="4" fill="var(--line)" />
      </svg>
    );
  return (
    <svg viewBox="0 0 100 4" preserveAspectRatio="none" className="h-1 w-full" aria-hidden>
      {(cluster.reach ?? []).map((s) => (
        <rect
          key={s.from}
          x={share(e, Date.parse(s.fromTime)) * 100}
          width={Math.max(1, (share(e, Date.parse(s.toTime)) - share(e, Date.parse(s.fromTime))) * 100)}
          height="4"
          fill="var(--velvet)"
        />
      ))}
    </svg>
  );
}
