import { expect, test } from "vitest";
import { ago, count, lasted, of, size, when, zone } from "./format";

test.each([
  [0, "0 B"],
  [1023, "1023 B"],
  [1024, "1.0 KiB"],
  [16 * 2 ** 20, "16.0 MiB"],
  [1.5 * 2 ** 40, "1.5 TiB"],
  [2000 * 2 ** 50, "2000.0 PiB"],
])("a size of %d bytes", (bytes, text) => expect(size(bytes)).toBe(text));

test.each([
  [0.04, "0.0 s"],
  [59.94, "59.9 s"],
  [59.99, "1 min 0 s"],
  [119.7, "2 min 0 s"],
  [125, "2 min 5 s"],
  [3599.6, "1 h 0 min"],
  [7260, "2 h 1 min"],
])("what lasted %d seconds", (seconds, text) => expect(lasted(seconds)).toBe(text));

test("a time has its date unless it is today's, and its offset where that is not the one at the head of the page", () => {
  process.env.TZ = "Europe/Lisbon";
  const at = "2027-03-10T14:03:07.412Z";
  expect(when(at, false, new Date("2027-03-10T22:00:00Z"))).toBe("14:03:07");
  expect(when(at, true, new Date("2027-03-10T22:00:00Z"))).toBe("14:03:07.412");
  expect(when(at, true, new Date("2027-03-11T00:30:00Z"))).toBe("2027-03-10 14:03:07.412");
  expect(when(at, false, new Date("2027-07-01T12:00:00Z"))).toBe("2027-03-10 14:03:07 +00:00");
  expect(zone(new Date("2027-07-01T12:00:00Z"))).toBe("Europe/Lisbon, +01:00");
  process.env.TZ = "Asia/Kathmandu";
  expect(when(at, false, new Date("2027-03-10T22:00:00Z"))).toBe("2027-03-10 19:48:07");
  expect(zone(new Date(at))).toMatch(/, \+05:45$/);
});

test.each([
  [0, "up to date"],
  [-5, "up to date"],
  [90, "90 s behind"],
  [600, "10 min behind"],
  [86_400, "24 h behind"],
])("capture %d seconds ago", (seconds, text) => {
  const now = Date.parse("2027-03-10T12:00:00Z");
  expect(ago(new Date(now - seconds * 1000).toISOString(), now)).toBe(text);
});

test("numbers are grouped, and one is not many", () => {
  expect(count(48211)).toBe("48,211");
  expect(of(1, "base backup")).toBe("1 base backup");
  expect(of(0, "base backup")).toBe("0 base backups");
  expect(of(65_000, "segment")).toBe("65,000 segments");
});
