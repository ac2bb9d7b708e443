import type { Backup, Cluster, Plan } from "../api";
import { clock, when } from "../format";

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
  if (!e) return <svg viewBox="0 0 100 4" preserveAspectRatio="none" className="h-1 w-full" aria-hidden><rect width="100" height="4" fill="var(--line)" /></svg>;
  return (
    <svg viewBox="0 0 100 4" preserveAspectRatio="none" className="h-1 w-full" aria-hidden>
      {(cluster.reach ?? []).map((s) => (
        <rect key={s.from} x={share(e, Date.parse(s.fromTime)) * 100} width={Math.max(1, (share(e, Date.parse(s.toTime)) - share(e, Date.parse(s.fromTime))) * 100)} height="4" fill="var(--velvet)" />
      ))}
    </svg>
  );
}

// boundaryTime is where on the axis of time a plan's boundary lies.
function boundaryTime(plan: Plan, e: Ends): number {
  const b = plan.boundary;
  const at = b.firstOut?.time ?? b.lastIn?.time;
  return at ? Date.parse(at) : e.to;
}

// Reel is the reach laid flat: left of the playhead is kept, right of it undone.
export function Reel({ cluster, backups, plan }: { cluster: Cluster; backups: Backup[]; plan?: Plan }) {
  const e = ends(cluster);
  if (!e) return null;
  const head = plan ? share(e, boundaryTime(plan, e)) : undefined;
  const percent = (n: number) => `${n * 100}%`;
  const words = `Reach of ${cluster.name}: ${when(new Date(e.from).toISOString())} to ${when(new Date(e.to).toISOString())}` + (plan ? `; playhead at ${plan.boundary.moment}` : "");
  return (
    <figure className="my-4">
      <svg role="img" aria-label={words} className="w-full h-12 overflow-visible">
        <defs>
          <pattern id="hatch" width="7" height="7" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
            <rect width="7" height="7" fill="var(--ground)" />
            <rect width="2.5" height="7" fill="var(--undone)" />
          </pattern>
        </defs>
        <line x1="0" x2="100%" y1="42" y2="42" stroke="var(--line)" />
        {(cluster.reach ?? []).map((s) => {
          const x = share(e, Date.parse(s.fromTime));
          const w = share(e, Date.parse(s.toTime)) - x;
          return <rect key={`${s.timeline}-${s.from}`} x={percent(x)} width={percent(w)} y="16" height="22" fill="var(--velvet)" opacity="0.85" />;
        })}
        {head !== undefined && <rect x={percent(head)} width={percent(1 - head)} y="16" height="22" fill="url(#hatch)" />}
        {backups.map((b) => {
          const x = share(e, Date.parse(b.stoppedAt));
          return (
            <g key={b.id}>
              <title>{`base ${b.id}, ended ${when(b.stoppedAt)}`}</title>
              <svg x={percent(x)} y="16" overflow="visible">
                <path d="M-5 0 H5 L0 9 Z" fill="var(--ground)" stroke="var(--ink)" />
              </svg>
            </g>
          );
        })}
        {head !== undefined && (
          <>
            <line x1={percent(head)} x2={percent(head)} y1="0" y2="44" stroke="var(--brass)" strokeWidth="3" />
            {head > 0.08 && (
              <text x={percent(head)} y="10" dx="-7" textAnchor="end" fill="var(--kept)" fontSize="12">
                kept ◂
              </text>
            )}
            {head < 0.92 && (
              <text x={percent(head)} y="10" dx="7" fill="var(--undone)" fontSize="12">
                ▸ undone
              </text>
            )}
          </>
        )}
      </svg>
      <figcaption className="flex justify-between text-soft">
        <span>{clock(new Date(e.from).toISOString())}</span>
        <span>▽ base backup{plan ? " · hatched: undone · brass: the boundary" : ""}</span>
        <span>{clock(new Date(e.to).toISOString())}</span>
      </figcaption>
    </figure>
  );
}
