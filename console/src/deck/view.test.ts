import { expect, test } from "vitest";
import { height, pan, showing, within, zoom } from "./view";

const all = { from: 1000, to: 101_000 };

test("a window never leaves the history", () => {
  for (const w of [
    { from: -5000, to: 0 },
    { from: 100_500, to: 180_000 },
    { from: 0, to: 500_000 },
    { from: 5000, to: 5001 },
  ]) {
    const inside = within(w, all);
    expect(inside.from).toBeGreaterThanOrEqual(all.from);
    expect(inside.to).toBeLessThanOrEqual(all.to);
    expect(inside.to - inside.from).toBeGreaterThanOrEqual(10);
  }
  expect(within({ from: 2000, to: 3000 }, all)).toEqual({ from: 2000, to: 3000 });
});

test("what is looked at stays in its place when one looks closer, and back", () => {
  const w = { from: 20_000, to: 60_000 };
  const closer = zoom(w, 30_000, 0.5, all);
  expect(closer).toEqual({ from: 25_000, to: 45_000 });
  expect((30_000 - closer.from) / (closer.to - closer.from)).toBeCloseTo((30_000 - w.from) / (w.to - w.from));
  expect(zoom(closer, 30_000, 2, all)).toEqual(w);
  expect(zoom(w, 30_000, 1000, all)).toEqual(all);
});

test("moving stops at the ends and keeps the width", () => {
  const w = { from: 20_000, to: 60_000 };
  expect(pan(w, 0.5, all)).toEqual({ from: 40_000, to: 80_000 });
  expect(pan(w, 5, all)).toEqual({ from: 61_000, to: 101_000 });
  expect(pan(w, -5, all)).toEqual({ from: 1000, to: 41_000 });
});

test("a time that is shown with room beside it moves nothing", () => {
  const w = { from: 20_000, to: 60_000 };
  expect(showing(w, 40_000, all)).toBe(w);
  const moved = showing(w, 58_000, all);
  expect(moved).toEqual({ from: 38_000, to: 78_000 });
  expect(showing(w, 100_900, all)).toEqual({ from: 61_000, to: 101_000 });
});

test("one row can be seen beside two hundred thousand", () => {
  expect(height(0, 200_000)).toBe(0);
  expect(height(5, 0)).toBe(0);
  expect(height(1, 200_000)).toBeGreaterThan(0.05);
  expect(height(200_000, 200_000)).toBe(1);
});
