import { afterEach, beforeEach, expect, test, vi } from "vitest";

import { gather } from "./gather";

beforeEach(() => void vi.useFakeTimers());
afterEach(() => void vi.useRealTimers());

test("a change is told at once, many once in a while, the last one always", () => {
  const told: string[] = [];
  const changed = gather(
    (k) => told.push(k),
    () => false,
  );
  changed("status");
  changed("volumes");
  expect(told).toEqual(["status", "volumes"]);
  for (let i = 0; i < 35; i++) {
    vi.advanceTimersByTime(100);
    changed("status");
  }
  expect(told).toEqual(["status", "volumes", "status", "status", "status"]);
  vi.advanceTimersByTime(500);
  expect(told.length).toBe(6);
  vi.advanceTimersByTime(60_000);
  expect(told.length).toBe(6);
  expect(vi.getTimerCount()).toBe(0);
  changed("status");
  expect(told.length).toBe(7);
});

test("what is being asked for is told when its answer is here", () => {
  const told: string[] = [];
  let asking = true;
  const changed = gather(
    (k) => told.push(k),
    () => asking,
  );
  changed("status");
  vi.advanceTimersByTime(5000);
  expect(told).toEqual([]);
  asking = false;
  vi.advanceTimersByTime(1000);
  expect(told).toEqual(["status"]);
  vi.advanceTimersByTime(5000);
  expect(told).toEqual(["status"]);
  expect(vi.getTimerCount()).toBe(0);
});
