import { expect, test } from "vitest";
import { areas } from "./growth";

const day = 86_400_000;

test("areas are steps, stacked, and the highest takes all of the height", () => {
  const points = [
    { at: new Date(0).toISOString(), backups: 10, wal: 0 },
    { at: new Date(day).toISOString(), backups: 10, wal: 30 },
  ];
  const a = areas(points, 2 * day, (t) => t / day, 100);
  expect(a.backups).toBe(10);
  expect(a.wal).toBe(30);
  expect(a.backupPath).toBe("M0.0 75.0L1.0 75.0L1.0 75.0L2.0 75.0L2.0 100.0L1.0 100.0L1.0 100.0L0.0 100.0Z");
  expect(a.walPath).toBe("M0.0 75.0L1.0 75.0L1.0 0.0L2.0 0.0L2.0 75.0L1.0 75.0L1.0 75.0L0.0 75.0Z");
});

test("a store with nothing in it is flat, not broken", () => {
  const a = areas([{ at: new Date(0).toISOString(), backups: 0, wal: 0 }], day, (t) => t / day, 100);
  expect(a.walPath).not.toContain("NaN");
});
