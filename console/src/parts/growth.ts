// What the growth of a cluster's part of the store looks like, without drawing it.

export type Point = { at: string; backups: number; wal: number };

export type Areas = { backups: number; wal: number; backupPath: string; walPath: string };

// areas makes two stacked areas of points by rising time. What was added at a time stays
// until the next, so that lines are steps. x places a time; height is what the largest sum takes.
export function areas(points: Point[], now: number, x: (t: number) => number, height: number): Areas {
  const last = points[points.length - 1]!;
  const most = Math.max(1, ...points.map((p) => p.backups + p.wal));
  const y = (v: number) => height - (v / most) * height;
  const steps = (value: (p: Point) => number): [number, number][] =>
    points.flatMap((p, i) => {
      const from = x(Date.parse(p.at));
      const next = points[i + 1];
      const to = next ? x(Date.parse(next.at)) : x(now);
      return [
        [from, y(value(p))],
        [to, y(value(p))],
      ] as [number, number][];
    });
  const lower = steps((p) => p.backups);
  const upper = steps((p) => p.backups + p.wal);
  const path = (up: [number, number][], down: [number, number][]) =>
    `M${[...up, ...down.reverse()].map(([a, b]) => `${a.toFixed(1)} ${b.toFixed(1)}`).join("L")}Z`;
  const floor = lower.map(([a]) => [a, height] as [number, number]);
  return { backups: last.backups, wal: last.wal, backupPath: path([...lower], floor), walPath: path(upper, [...lower]) };
}
