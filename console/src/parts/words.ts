/** A word for a shell that stands for just this text: names of files are chosen by others. */
export function word(text: string): string {
  if (/^[\w./+,:@%\p{L}\p{M}\p{N}][\w./+,:@%\p{L}\p{M}\p{N}-]*$/u.test(text)) return text;
  return `'${(text.startsWith("-") ? `./${text}` : text).replaceAll("'", "'\\''")}'`;
}

/** A count with its noun. */
export const many = (n: number, one: string, more = `${one}s`) => `${n.toLocaleString("en")} ${n === 1 ? one : more}`;

/** Bytes in binary units; `exact` for hover. */
export function size(n: number): string {
  const units = ["B", "KiB", "MiB", "GiB", "TiB", "PiB"];
  let i = 0;
  while (n >= 1024 && i < units.length - 1) {
    n /= 1024;
    i++;
  }
  return i === 0 ? `${n} B` : `${n.toFixed(1)} ${units[i]}`;
}

/** Reads bytes with a binary unit, such as 20 GiB; undefined when it is no size. */
export function readSize(text: string): number | undefined {
  const m = /^\s*(\d+(?:\.\d+)?)\s*(B|[KMGT]iB)?\s*$/.exec(text);
  if (!m) return undefined;
  const n = Number(m[1]) * 1024 ** ["B", "KiB", "MiB", "GiB", "TiB"].indexOf(m[2] ?? "B");
  return Number.isInteger(n) ? n : undefined;
}

export const exact = (n: number) => `${n.toLocaleString("en")} bytes`;

/**
 * A moment as commands take it: without a doubt, for the terminal that it is pasted into may be in another time zone
 * than the browser.
 */
export function instant(at: string | Date): string {
  const d = new Date(at);
  return Number.isNaN(d.getTime()) ? String(at) : d.toISOString().replace(/\.\d+Z$/, "Z");
}

/** How long ago, or in how long, with one unit. */
export function ago(at: string | Date, now = Date.now()): string {
  const s = Math.round((now - new Date(at).getTime()) / 1000);
  const text = span(Math.abs(s));
  return s >= 0 ? `${text} ago` : `in ${text}`;
}

export function span(s: number): string {
  const units: [number, string][] = [
    [86400 * 365, "year"],
    [86400, "day"],
    [3600, "hour"],
    [60, "minute"],
  ];
  for (const [n, name] of units) {
    if (s >= n * 2 || (s >= n && name !== "year")) {
      const k = Math.floor(s / n);
      return `${k} ${name}${k === 1 ? "" : "s"}`;
    }
  }
  return `${Math.round(s)} s`;
}
