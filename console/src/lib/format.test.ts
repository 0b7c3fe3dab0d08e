import { describe, expect, it } from "vitest";
import { dayLabel, size, span } from "./format";

describe("sizes", () => {
  it("are in the largest unit in which they are not below one", () => {
    expect([0, 1, 999, 1_000, 999_949, 999_950, 33_554_432].map(size)).toEqual([
      "0 bytes",
      "1 byte",
      "999 bytes",
      "1 kB",
      "999.9 kB",
      "1 MB",
      "33.6 MB",
    ]);
  });
});

it("lengths of time are in a unit in which they are whole, or nearly", () => {
  expect([45, 600, 5_400, 86_400, 7_776_000].map(span)).toEqual([
    "45 seconds",
    "10 minutes",
    "90 minutes",
    "1 day",
    "90 days",
  ]);
});

describe("headings of days", () => {
  const now = new Date(2026, 2, 29, 12);

  it("are words for the last two, whatever the clock did meanwhile", () => {
    expect(dayLabel(new Date(2026, 2, 29, 0, 1), now)).toBe("Today");
    expect(dayLabel(new Date(2026, 2, 28, 23, 59), now)).toBe("Yesterday");
  });

  it("name the year only if it is another", () => {
    expect(dayLabel(new Date(2026, 0, 5), now)).toBe("Monday, January 5");
    expect(dayLabel(new Date(2025, 0, 5), now)).toBe("Sunday, January 5, 2025");
  });
});
