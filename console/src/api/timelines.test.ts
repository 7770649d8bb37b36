import { afterEach, beforeEach, expect, test, vi } from "vitest";

import { api } from "./client";
import { timeline } from "./timelines";

vi.mock("./client", async (original) => ({ ...(await original<typeof import("./client")>()), api: { GET: vi.fn() } }));
const get = vi.mocked(api.GET) as unknown as ReturnType<typeof vi.fn>;
type Asked = { params: { query: { name: string[] } }; signal: AbortSignal };
const asked = () => get.mock.calls.map((c) => c[1] as Asked);
const lives = () => new AbortController().signal;

beforeEach(() => {
  vi.useFakeTimers();
  get.mockReset();
  get.mockImplementation((_: string, a: Asked) =>
    Promise.resolve({
      data: { items: a.params.query.name.filter((n) => n !== "gone").map((volume) => ({ volume })) },
      response: { ok: true },
    }),
  );
});
afterEach(() => void vi.useRealTimers());

test("what is asked for in one turn is asked at once, each stretch for itself", async () => {
  const rows = Array.from({ length: 130 }, (_, i) => timeline(`v${i}`, 0, 1, lives()));
  const other = timeline("v0", 0, 2, lives());
  vi.runAllTimers();
  expect((await Promise.all(rows)).map((t) => t.volume)).toEqual(rows.map((_, i) => `v${i}`));
  expect((await other).volume).toBe("v0");
  expect(asked().map((a) => a.params.query.name.length)).toEqual([100, 30, 1]);
});

test("a volume that is gone fails alone", async () => {
  const gone = timeline("gone", 0, 1, lives());
  const here = timeline("v", 0, 1, lives());
  vi.runAllTimers();
  await expect(gone).rejects.toThrow("no volume gone");
  expect((await here).volume).toBe("v");
});

test("the question ends when nobody waits for it any more", async () => {
  get.mockImplementation(() => new Promise(() => undefined));
  const [a, b] = [new AbortController(), new AbortController()];
  const rows = [timeline("a", 0, 1, a.signal), timeline("b", 0, 1, b.signal)];
  vi.runAllTimers();
  a.abort();
  await expect(rows[0]).rejects.toThrow();
  expect(asked()[0].signal.aborted).toBe(false);
  b.abort();
  await expect(rows[1]).rejects.toThrow();
  expect(asked()[0].signal.aborted).toBe(true);
  const late = timeline("a", 0, 1, a.signal);
  vi.runAllTimers();
  await expect(late).rejects.toThrow();
  expect(asked().length).toBe(1);
});
