import { afterEach, expect, test } from "vitest";

import { type Dates, isoDay, ofWall, readMoment, setTimes, shownTimes, stamp, startOf, wall } from "./times";

afterEach(() => setTimes({ zone: "", dates: "year first" }));

const zones = ["UTC", "Europe/Lisbon", "America/New_York", "Asia/Kolkata", "Australia/Lord_Howe", "Pacific/Apia"];

test("a stamp reads back as the same moment, in every zone and form", () => {
  for (const zone of zones)
    for (const dates of ["year first", "day first", "month first"] as Dates[]) {
      setTimes({ zone, dates });
      for (let at = Date.UTC(2026, 0, 1, 0, 7, 9); at < Date.UTC(2027, 0, 1); at += 41 * 3_600_000 + 13_000) {
        const read = readMoment(stamp(new Date(at), true))!;
        expect(stamp(read, true)).toBe(stamp(new Date(at), true));
        // An hour that comes twice is read as the first of them.
        expect([0, 1_800_000, 3_600_000]).toContain(at - read.getTime());
      }
    }
});

test("each zone has its own clock", () => {
  const at = new Date("2026-11-29T23:05:09Z");
  const as = (zone: string, dates: Dates) => {
    setTimes({ zone, dates });
    return stamp(at);
  };
  expect(as("Europe/Lisbon", "year first")).toBe("2026-11-29 23:05");
  expect(as("Asia/Tokyo", "day first")).toBe("30 Nov 2026 08:05");
  expect(as("America/New_York", "month first")).toBe("Nov 29, 2026 6:05 pm");
  expect(shownTimes()).toBe("America/New_York, month first");
  expect(isoDay("2026-11-30T03:00:00Z")).toBe("2026-11-29");
  expect(startOf("2026-11-29").toISOString()).toBe("2026-11-29T05:00:00.000Z");
});

test("a clock that is set forward or back", () => {
  setTimes({ zone: "Europe/Lisbon", dates: "year first" }); // forward on 29 March 2026, back on 25 October
  expect(readMoment("2026-03-29 01:30")!.toISOString()).toBe("2026-03-29T01:30:00.000Z"); // leapt over
  expect(readMoment("2026-10-25 01:30")!.toISOString()).toBe("2026-10-25T00:30:00.000Z"); // the first
  const twice = new Date("2026-10-25T01:30:00Z");
  expect(wall(twice).toISOString()).toBe("2026-10-25T01:30:00.000Z");
  expect(ofWall(wall(twice).getTime())).not.toEqual(twice);
});

test("what is no moment is refused", () => {
  for (const text of ["", "yesterday", "2026-02-30", "2026-13-01 10:00", "-5x", "31 Jun 2026", "Foo 3, 2026"])
    expect(readMoment(text), text).toBeUndefined();
  for (const text of ["Jun 3, 2026 13:00 pm", "2026-01-01 25:00"]) expect(readMoment(text), text).toBeUndefined();
});

test("a zone that the browser does not know is its own", () => {
  setTimes({ zone: "Nowhere/Else", dates: "day first" });
  expect(stamp(new Date(0))).toContain("1970");
});
