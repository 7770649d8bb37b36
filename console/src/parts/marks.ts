import type { Timeline } from "../api/client";

export type Mark = NonNullable<Timeline["lanes"]>[number]["marks"] extends (infer M)[] | null ? M : never;

/** How tall a mark stands, by the widest tier that keeps it. */
export const rank: Record<string, number> = {
  none: 0,
  newest: 1,
  "newest complete": 1,
  "no rules": 2,
  hourly: 2,
  daily: 3,
  weekly: 4,
  monthly: 5,
  yearly: 6,
  "by hand": 3,
  safety: 1,
  recalled: 3,
  owed: 1,
};

/** pinned: it, or one that it stands for, is marked to keep. */
export type Drawn = {
  mark: Mark;
  x: number;
  width: number;
  height: number;
  opacity: number;
  count: number;
  pinned: boolean;
};

/**
 * Places marks on a lane. Marks that would share a pixel become one, the tallest, so
 * that drawing costs by the width of the ruler and not by the number of snapshots.
 */
export function placeMarks(marks: Mark[], x: (t: number) => number, width: number, lane: number, now: number): Drawn[] {
  const slots = new Map<number, Drawn>();
  for (const mark of marks) {
    const taken = Date.parse(mark.taken);
    const begin = x(taken);
    const end = Math.max(x(Date.parse(mark.seenUntil)), begin + 2.5);
    if (end < 0 || begin > width) continue;
    const left = Math.max(begin, -2);
    const height = 4 + ((lane - 5) * (rank[mark.tier] ?? 1)) / 6;
    const drawn: Drawn = {
      mark,
      x: left,
      width: Math.min(end, width + 2) - left,
      height,
      opacity: fade(mark, taken, now),
      count: 1,
      pinned: !!mark.keep,
    };
    const slot = Math.round(left / 2);
    const other = slots.get(slot);
    if (!other) slots.set(slot, drawn);
    else {
      other.count++;
      other.pinned ||= drawn.pinned;
      if (drawn.height > other.height || (drawn.height === other.height && drawn.width > other.width))
        slots.set(slot, { ...drawn, count: other.count, pinned: other.pinned });
    }
  }
  return [...slots.values()];
}

/** Draws what is planned as one path: what is out of sight, or would lie over the one before, is left out. */
export function planPath(planned: string[], x: (t: number) => number, width: number, y: number): string {
  let path = "";
  let before = -Infinity;
  for (const p of planned) {
    const at = x(Date.parse(p)) - 1.5;
    if (at < -4 || at > width || at < before + 5) continue;
    path += `M${at.toFixed(1)},${y}h4v7h-4z`;
    before = at;
  }
  return path;
}

/** What goes soon is faint: full strength while more than half of its life is left. */
function fade(mark: Mark, taken: number, now: number): number {
  if (mark.state !== "kept") return 0.35;
  if (!mark.ends) return 1;
  const end = Date.parse(mark.ends);
  const left = (end - now) / Math.max(end - taken, 1);
  return Math.min(1, Math.max(0.45, 0.45 + left * 1.1));
}
