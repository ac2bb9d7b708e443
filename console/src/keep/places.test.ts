import { expect, test } from "vitest";
import { position, tick, timeOf } from "./places";

test("LSNs grow over the border of 4 GiB", () => {
  expect(position("0/5A3F2B8")).toBe(0x5a3f2b8);
  expect(position("1/0")).toBe(2 ** 32);
  expect(position("1/0")).toBeGreaterThan(position("0/FFFFFFFF"));
});

test("between two known places time passes evenly, and outside of them not at all", () => {
  const at = timeOf([
    { lsn: "0/3000", at: "2027-03-10T14:00:00Z" },
    { lsn: "0/1000", at: "2027-03-10T12:00:00Z" },
    { lsn: "0/3000", at: "2027-03-10T14:00:00Z" },
  ]);
  const iso = (lsn: string) => new Date(at(lsn)).toISOString();
  expect(iso("0/1000")).toBe("2027-03-10T12:00:00.000Z");
  expect(iso("0/2000")).toBe("2027-03-10T13:00:00.000Z");
  expect(iso("0/3000")).toBe("2027-03-10T14:00:00.000Z");
  expect(iso("0/0")).toBe("2027-03-10T12:00:00.000Z");
  expect(iso("9/0")).toBe("2027-03-10T14:00:00.000Z");
});

test("a clock that is behind does not turn the WAL around", () => {
  const at = timeOf([
    { lsn: "0/1000", at: "2027-03-10T12:00:00Z" },
    { lsn: "0/2000", at: "2027-03-10T13:00:00Z" },
    { lsn: "0/3000", at: "2026-11-25T09:00:00Z" },
  ]);
  expect(at("0/3000")).toBe(Date.parse("2027-03-10T13:00:00Z"));
});

test("of nothing known nothing is made up", () => expect(timeOf([])("0/1")).toBe(0));

test("an axis of days shows dates, one of hours times of day", () => {
  const at = new Date(2027, 2, 10, 14, 3, 7);
  const day = (n: number) => new Date(2027, 2, n);
  expect(tick(at, [day(1), day(31)])).toBe("2027-03-10");
  expect(tick(at, [day(10), day(11)])).toBe("14:03:07");
});
