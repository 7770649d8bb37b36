/** How times are shown and read: in the zone and the form that were chosen, or else in the browser's zone. */
export type Dates = "year first" | "day first" | "month first";

export const browserZone = () => Intl.DateTimeFormat().resolvedOptions().timeZone;

let zone = browserZone();
let form: Dates = "year first";
let clock = clockOf(zone);
let offsets = new Map<number, number>();

function clockOf(timeZone: string): Intl.DateTimeFormat {
  return new Intl.DateTimeFormat("en", {
    timeZone,
    hourCycle: "h23",
    year: "numeric",
    month: "numeric",
    day: "numeric",
    hour: "numeric",
    minute: "numeric",
    second: "numeric",
  });
}

/** Sets what was chosen. An empty zone, or one that this browser does not know, is the browser's. */
export function setTimes(chosen: { zone: string; dates: Dates }) {
  const wanted = chosen.zone || browserZone();
  form = chosen.dates;
  if (wanted === zone) return;
  try {
    clock = clockOf(wanted);
    zone = wanted;
  } catch {
    zone = browserZone();
    clock = clockOf(zone);
  }
  offsets = new Map();
}

export const shownZone = () => zone;

/** What the site is told, so that times in its sentences are shown alike. */
export const shownTimes = () => `${zone}, ${form}`;

const STEP = 900_000; // a zone's offset changes on quarters of an hour

function offset(at: number): number {
  const slot = Math.floor(at / STEP);
  let known = offsets.get(slot);
  if (known === undefined) {
    const p: Record<string, number> = {};
    for (const { type, value } of clock.formatToParts(slot * STEP)) p[type] = Number(value);
    known = Date.UTC(p.year, p.month - 1, p.day, p.hour, p.minute, p.second) - slot * STEP;
    if (offsets.size > 50_000) offsets.clear();
    offsets.set(slot, known);
  }
  return known;
}

/** A date whose UTC parts are what a clock in the zone shows. */
export const wall = (at: string | number | Date): Date => {
  const t = new Date(at).getTime();
  return new Date(t + offset(t));
};

/** The moment at which a clock in the zone shows the UTC parts of a date; the first of two. */
export function ofWall(w: number): Date {
  const early = w - offset(w - 86_400_000);
  const late = w - offset(w + 86_400_000);
  for (const t of [Math.min(early, late), Math.max(early, late)]) if (t + offset(t) === w) return new Date(t);
  return new Date(early); // the clock leaps over it: as if it had not
}

const months = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"];
const two = (n: number) => String(n).padStart(2, "0");

/** The day of a moment as fields for days take it. */
export const isoDay = (at: string | Date) => wall(at).toISOString().slice(0, 10);

/** The moment at which a day begins. */
export const startOf = (day: string) => ofWall(Date.parse(`${day}T00:00:00Z`));

/** A moment, to the minute or second. */
export function stamp(at: string | Date, seconds = false, dates: Dates = form): string {
  const d = wall(at);
  if (Number.isNaN(d.getTime())) return String(at);
  const [y, m, day, h] = [d.getUTCFullYear(), d.getUTCMonth(), d.getUTCDate(), d.getUTCHours()];
  const rest = `:${two(d.getUTCMinutes())}${seconds ? `:${two(d.getUTCSeconds())}` : ""}`;
  switch (dates) {
    case "day first":
      return `${day} ${months[m]} ${y} ${two(h)}${rest}`;
    case "month first":
      return `${months[m]} ${day}, ${y} ${h % 12 || 12}${rest} ${h < 12 ? "am" : "pm"}`;
    default:
      return `${y}-${two(m + 1)}-${two(day)} ${two(h)}${rest}`;
  }
}

const clockTime = "(?:[ T](\\d{1,2}):(\\d{2})(?::(\\d{2}))?(?: ?(am|pm))?)?$";
const forms: [RegExp, (m: string[]) => [string, string, string]][] = [
  [new RegExp(`^(\\d{4})-(\\d{2})-(\\d{2})${clockTime}`, "i"), (m) => [m[1], m[2], m[3]]],
  [new RegExp(`^(\\d{1,2}) ([a-z]{3})[a-z]* (\\d{4})${clockTime}`, "i"), (m) => [m[3], m[2], m[1]]],
  [new RegExp(`^([a-z]{3})[a-z]* (\\d{1,2}),? (\\d{4})${clockTime}`, "i"), (m) => [m[3], m[1], m[2]]],
];

/** Reads a typed moment, in any of the forms; undefined when it is none. */
export function readMoment(text: string, now = Date.now()): Date | undefined {
  const t = text.trim();
  const rel = /^-(\d{1,6})([smhdw])$/.exec(t);
  if (rel) {
    const unit = { s: 1, m: 60, h: 3600, d: 86400, w: 604800 }[rel[2] as "s"];
    return new Date(now - Number(rel[1]) * unit * 1000);
  }
  for (const [is, parts] of forms) {
    const m = is.exec(t);
    if (!m) continue;
    const [year, named, day] = parts(m);
    const month = /\d/.test(named) ? +named - 1 : months.findIndex((n) => n.toLowerCase() === named.toLowerCase());
    const half = m[7]?.toLowerCase();
    if (half && (+m[4] < 1 || +m[4] > 12)) return undefined;
    const hour = half ? (+m[4] % 12) + (half === "pm" ? 12 : 0) : +(m[4] ?? 0);
    const w = new Date(Date.UTC(+year, month, +day, hour, +(m[5] ?? 0), +(m[6] ?? 0)));
    const same = w.getUTCMonth() === month && w.getUTCDate() === +day && w.getUTCHours() === hour;
    return same && month >= 0 ? ofWall(w.getTime()) : undefined;
  }
  return undefined;
}
