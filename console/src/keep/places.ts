// Where stretches of WAL lie in time, without drawing them.

export type Known = { lsn: string; at: string };

// position reads an LSN as a number that grows with it.
export function position(lsn: string): number {
  const [high, low] = lsn.split("/");
  return parseInt(high ?? "0", 16) * 2 ** 32 + parseInt(low ?? "0", 16);
}

// timeOf makes a function from LSN to time out of places of which both are known. Between
// two of them WAL is taken to have been written evenly; before the first and after the
// last it is as if it were all of their time.
export function timeOf(known: Known[]): (lsn: string) => number {
  const points = known.map((k) => ({ x: position(k.lsn), t: Date.parse(k.at) })).sort((a, b) => a.x - b.x || a.t - b.t);
  points.forEach((p, i) => (p.t = Math.max(p.t, points[i - 1]?.t ?? p.t))); // clocks may differ, but WAL is written in order
  return (lsn) => {
    const x = position(lsn);
    const next = points.findIndex((p) => p.x >= x);
    if (points.length === 0) return 0;
    if (next === -1) return points[points.length - 1]!.t;
    if (next === 0) return points[0]!.t;
    const a = points[next - 1]!;
    const b = points[next]!;
    return b.x === a.x ? b.t : a.t + ((x - a.x) / (b.x - a.x)) * (b.t - a.t);
  };
}

const two = (n: number) => String(n).padStart(2, "0");

// tick names a time on an axis: its date, or its time of day where all of it is close by.
export function tick(t: Date, [from, to]: Date[]): string {
  const close = (to?.getTime() ?? 0) - (from?.getTime() ?? 0) < 2 * 86_400_000;
  return close
    ? `${two(t.getHours())}:${two(t.getMinutes())}:${two(t.getSeconds())}`
    : `${t.getFullYear()}-${two(t.getMonth() + 1)}-${two(t.getDate())}`;
}
