import { scaleTime } from "d3-scale";
import type { KeepPreview } from "../api";
import { when } from "../format";
import { tick, timeOf } from "./places";

const width = 960;
const left = 70; // beside it the lanes are named
const right = width - 8;

// KeepPicture draws what is needed and what may be deleted: bases as notches over the WAL as a band, what
// may be deleted hatched and hanging below the line, and the promised time as a bar beneath.
export function KeepPicture({ preview: p }: { preview: KeepPreview }) {
  const bases = [...(p.bases ?? [])].reverse();
  const spans = p.before ?? [];
  const known = [...bases.map((b) => ({ lsn: b.stop, at: b.stopTime })), ...spans.map((s) => ({ lsn: s.to, at: s.toTime }))];
  const asOf = Date.parse(p.asOf);
  const at = timeOf(known);
  const times = known.map((k) => Date.parse(k.at));
  const first = Math.min(asOf, ...times);
  const promised = Date.parse(p.promised);
  const x = scaleTime([first - (asOf - first) * 0.01 - 1, Math.max(asOf, ...times)], [left, right]);
  const late = x(promised) > right - 220; // what is written beside it would not fit
  // Where a month ends, ticks come closer to one another than their dates are wide.
  const ticks = x.ticks(8).filter((t, i, all) => x(t) < right - 30 && (i === 0 || x(t) - x(all[i - 1]!) > 75));
  const releasable = bases.filter((b) => !b.needed).length;
  return (
    <svg
      viewBox={`0 0 ${width} 150`}
      className="w-full"
      role="img"
      aria-label={`${bases.length - releasable} base backups are needed, ${releasable} releasable`}
    >
      <defs>
        <pattern id="releasable" width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
          <rect width="6" height="6" fill="var(--ground)" />
          <rect width="2.5" height="6" fill="var(--undone)" />
        </pattern>
      </defs>
      <text x="4" y="38" className="lane">
        needed
      </text>
      <text x="4" y="93" className="lane">
        releasable
      </text>
      {(p.wal ?? []).map((w) => {
        const from = x(at(w.from));
        const to = Math.max(from + 1.5, x(at(w.to)));
        return (
          <rect
            key={`${w.timeline} ${w.first}`}
            x={from}
            width={to - from}
            y={w.needed ? 46 : 62}
            height="14"
            fill={w.needed ? "var(--velvet)" : "url(#releasable)"}
          >
            <title>{`WAL of timeline ${w.timeline}, ${w.from} to ${w.to}: ${(w.reasons ?? []).map((r) => r.text).join("; ")}`}</title>
          </rect>
        );
      })}
      {bases.map((b) => {
        const at = x(Date.parse(b.stopTime));
        return (
          <path
            key={b.id}
            d={b.needed ? `M${at - 5} 24h10l-5 20z` : `M${at - 5} 98h10l-5-20z`}
            fill={b.needed ? "var(--velvet)" : "url(#releasable)"}
            stroke={b.needed ? "none" : "var(--undone)"}
          >
            <title>{`base ${b.id}, ${when(b.stopTime)}: ${(b.reasons ?? []).map((r) => r.text).join("; ")}`}</title>
          </path>
        );
      })}
      <line x1={left} x2={right} y1="61" y2="61" stroke="var(--line)" />
      {promised < asOf && (
        <>
          <rect
            x={Math.max(left, x(promised))}
            width={Math.max(1, x(asOf) - Math.max(left, x(promised)))}
            y="110"
            height="5"
            fill="var(--brass)"
          />
          <line
            x1={Math.max(left, x(promised))}
            x2={Math.max(left, x(promised))}
            y1="20"
            y2="115"
            stroke="var(--brass)"
            strokeDasharray="3 3"
          />
          <text x={late ? right : Math.max(left, x(promised)) + 4} y="127" textAnchor={late ? "end" : "start"} className="lane">
            any moment from here on is promised
          </text>
        </>
      )}
      {ticks.map((t) => (
        <text key={t.getTime()} x={x(t)} y="146" textAnchor="middle" fontSize="11" fill="var(--ink-soft)">
          {tick(t, x.domain())}
        </text>
      ))}
    </svg>
  );
}
