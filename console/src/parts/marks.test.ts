import { expect, test } from "vitest";

import { type Mark, placeMarks, planPath } from "./marks";

const mark = (minute: number, tier: string, until = minute): Mark => ({
  id: String(minute),
  taken: new Date(minute * 60_000).toISOString(),
  seenUntil: new Date(until * 60_000).toISOString(),
  tier,
  state: "kept",
  why: tier,
});

test("ten thousand marks cost by the width of the ruler", () => {
  const many = Array.from({ length: 10_000 }, (_, i) => mark(i, i === 5000 ? "yearly" : "hourly"));
  const drawn = placeMarks(many, (t) => t / 60_000 / 10, 1000, 16, 0);
  expect(drawn.length).toBeLessThanOrEqual(502);
  expect(drawn.reduce((n, d) => n + d.count, 0)).toBe(10_000);
  expect(drawn.some((d) => d.mark.tier === "yearly")).toBe(true);
});

test("a mark is as long as it was seen, and the wider tier stands taller", () => {
  const [a] = placeMarks([mark(0, "daily", 100)], (t) => t / 60_000, 1000, 16, 0);
  const [b] = placeMarks([mark(0, "monthly")], (t) => t / 60_000, 1000, 16, 0);
  expect(a.width).toBe(100);
  expect(b.height).toBeGreaterThan(a.height);
});

test("marks outside are not drawn", () => {
  expect(placeMarks([mark(-50, "daily"), mark(5000, "daily")], (t) => t / 60_000, 1000, 16, 0)).toEqual([]);
});

test("a keep mark shows though a taller mark stands on the same pixel", () => {
  const marks = [mark(0, "hourly"), { ...mark(0, "hourly"), id: "k", keep: "audit" }, mark(0, "yearly")];
  const drawn = placeMarks(marks, (t) => t / 1e9, 1000, 30, 0);
  expect(drawn).toHaveLength(1);
  expect(drawn[0]).toMatchObject({ pinned: true, count: 3 });
  expect(placeMarks([mark(0, "daily")], (t) => t / 1e9, 1000, 30, 0)[0].pinned).toBe(false);
});

test("plans are drawn in sight, and none over another", () => {
  const plans = Array.from({ length: 200 }, (_, i) => new Date((i - 20) * 60_000).toISOString());
  const boxes = (perMinute: number) => planPath(plans, (t) => (t / 60_000) * perMinute, 1000, 7).split("M").length - 1;
  expect(boxes(10)).toBe(101);
  expect(boxes(1)).toBe(37);
  expect(planPath([], (t) => t, 1000, 7)).toBe("");
});
