import { scaleTime } from "d3-scale";
import type { StoreCluster } from "../api";
import { clock, date, size } from "../format";
import { areas } from "./growth";

const width = 960;
const lane = 74;
const axis = 22;

const day = 86_400_000;

// label writes a time on an axis: the time of day, or the date where the axis is long.
function label(t: Date, span: number): string {
  const iso = t.toISOString();
  if (span < 2 * day) return clock(iso).slice(0, span < day / 6 ? 8 : 5);
  return date(t);
}

// Growth draws what each cluster came to take over time: base backups plain, WAL hatched on top.
export function Growth({ clusters }: { clusters: StoreCluster[] }) {
  const drawn = clusters.filter((c) => (c.growth ?? []).length > 0);
  const now = Date.now();
  const first = Math.min(...drawn.map((c) => Date.parse(c.growth![0]!.at)));
  const x = scaleTime([first, now], [0, width]);
  return (
    <div>
      {drawn.map((c) => {
        const a = areas(c.growth!, now, (t) => x(t), lane - 6);
        return (
          <figure key={c.cluster} className="my-2">
            <figcaption className="flex justify-between">
              <span>{c.cluster}</span>
              <span className="text-soft">
                <span aria-hidden className="text-velvet">
                  ■
                </span>{" "}
                base backups {size(a.backups)} ·{" "}
                <span aria-hidden className="text-kept">
                  ▨
                </span>{" "}
                WAL {size(a.wal)}
              </span>
            </figcaption>
            <svg
              viewBox={`0 0 ${width} ${lane + axis}`}
              className="w-full"
              role="img"
              aria-label={`${c.cluster} came to take ${size(a.backups)} of base backups and ${size(a.wal)} of WAL`}
            >
              <defs>
                <pattern id="grown" width="5" height="5" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
                  <rect width="5" height="5" fill="var(--ground)" />
                  <rect width="2" height="5" fill="var(--kept)" />
                </pattern>
              </defs>
              <path d={a.walPath} fill="url(#grown)" stroke="var(--kept)" strokeWidth="1" transform="translate(0 6)" />
              <path d={a.backupPath} fill="var(--velvet)" transform="translate(0 6)" />
              <line x1="0" x2={width} y1={lane} y2={lane} stroke="var(--line)" />
              {x.ticks(6).map((t) => (
                <text key={t.getTime()} x={Math.min(width - 60, x(t))} y={lane + 15} fontSize="12" fill="var(--ink-soft)">
                  {label(t, now - first)}
                </text>
              ))}
            </svg>
          </figure>
        );
      })}
    </div>
  );
}
