// What part of a cluster's history the deck shows: a window on the axis of time, in
// milliseconds of Unix time. Nothing here draws.

export type Window = { from: number; to: number };

// closest is how near one can look: ten milliseconds.
const closest = 10;

const clamp = (v: number, low: number, high: number) => Math.min(high, Math.max(low, v));

// within moves and cuts a window so that it lies within all of the history.
export function within(w: Window, all: Window): Window {
  const width = clamp(w.to - w.from, closest, Math.max(closest, all.to - all.from));
  const from = clamp(w.from, all.from, Math.max(all.from, all.to - width));
  return { from, to: from + width };
}

// zoom widens (factor above 1) or narrows a window around a time, which stays in its place.
export function zoom(w: Window, around: number, factor: number, all: Window): Window {
  const at = clamp(around, w.from, w.to);
  return within({ from: at - (at - w.from) * factor, to: at + (w.to - at) * factor }, all);
}

// pan moves a window by a share of its width.
export function pan(w: Window, share: number, all: Window): Window {
  const by = (w.to - w.from) * share;
  return within({ from: w.from + by, to: w.to + by }, all);
}

// showing moves a window, if it must, so that a time lies in it with some room beside.
export function showing(w: Window, at: number, all: Window): Window {
  const room = (w.to - w.from) * 0.1;
  if (at >= w.from + room && at <= w.to - room) return w;
  const half = (w.to - w.from) / 2;
  return within({ from: at - half, to: at + half }, all);
}

// height is how high a number of rows is drawn, as a share of the greatest: in
// logarithmic measure, so that one row can be seen beside two hundred thousand.
export function height(rows: number, greatest: number): number {
  if (rows <= 0 || greatest <= 0) return 0;
  return Math.log1p(rows) / Math.log1p(greatest);
}
