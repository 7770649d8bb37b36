import { api, Problem, type Timeline, told } from "./client";

/** The most volumes that are asked for at once. */
const MOST = 100;

type Waiting = { name: string; signal: AbortSignal; done: (t: Timeline) => void; failed: (why: unknown) => void };

const waiting = new Map<string, Waiting[]>(); // by the stretch of time

/** The timeline of a volume; what many rows ask for in one turn is one question to the site. */
export function timeline(name: string, begin: number, end: number, signal: AbortSignal) {
  const key = `${begin} ${end}`;
  return new Promise<Timeline>((done, failed) => {
    const rows = waiting.get(key) ?? [];
    if (rows.push({ name, signal, done, failed }) > 1) return;
    waiting.set(key, rows);
    setTimeout(() => {
      waiting.delete(key);
      for (let i = 0; i < rows.length; i += MOST) void ask(rows.slice(i, i + MOST), begin, end);
    });
  });
}

async function ask(rows: Waiting[], begin: number, end: number) {
  const stop = new AbortController();
  let left = rows.length;
  for (const r of rows) {
    const gone = () => {
      r.failed(r.signal.reason);
      if (--left === 0) stop.abort(); // nobody waits for it any more
    };
    if (r.signal.aborted) gone();
    else r.signal.addEventListener("abort", gone, { once: true });
  }
  if (left === 0) return;
  try {
    const query = {
      name: rows.map((r) => r.name),
      from: new Date(begin).toISOString(),
      to: new Date(end).toISOString(),
    };
    const { items } = await told(api.GET("/timelines", { params: { query }, signal: stop.signal }));
    const found = new Map((items ?? []).map((t) => [t.volume, t]));
    for (const r of rows) {
      const t = found.get(r.name);
      if (t) r.done(t);
      else r.failed(new Problem(`There is no volume ${r.name} any more.`, 404));
    }
  } catch (why) {
    for (const r of rows) r.failed(why);
  }
}
