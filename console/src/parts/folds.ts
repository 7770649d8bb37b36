import type { Volume } from "../api/client";

/** The states, in the order in which they need a hand. */
const order = ["late", "gap", "unprotected", "paused", "on target", "removed"];
const needy = 3; // the states before it need a hand

/** How a volume stands, in a word; one that is protected no more is not in need. */
export const stateOf = (v: Volume) => (v.protected ? v.protection : "removed");

export const needsHand = (v: Volume) => order.indexOf(stateOf(v)) < needy;

/** A part of the volumes under one heading; open as long as nobody folds it. */
export type Fold = { key: string; label: string; open: boolean; volumes: Volume[] };

/** What the volumes can be folded by: their state, each key that labels have, or nothing. */
export function foldsBy(volumes: Volume[]): string[] {
  const keys = new Set<string>();
  for (const v of volumes) for (const k of Object.keys(v.labels ?? {})) keys.add(k);
  return ["state", ...[...keys].sort().map((k) => `label ${k}`), "nothing"];
}

/** Puts what needs a hand first, and the rest under headings of what is chosen. */
export function fold(volumes: Volume[], by: string): Fold[] {
  const sorted = [...volumes].sort(
    (a, b) => order.indexOf(stateOf(a)) - order.indexOf(stateOf(b)) || a.name.localeCompare(b.name),
  );
  if (by === "nothing") return [{ key: "all", label: "", open: true, volumes: sorted }];
  const key = by.replace(/^label /, "");
  const folds = new Map<string, Fold>();
  for (const v of sorted) {
    const hand = needsHand(v);
    const label = by === "state" ? stateOf(v) : hand ? "needs a hand" : (v.labels?.[key] ?? `without ${key}`);
    const id = `${hand ? "hand" : "rest"} ${label}`;
    let f = folds.get(id);
    if (!f) folds.set(id, (f = { key: id, label, open: hand, volumes: [] }));
    f.volumes.push(v);
  }
  const all = [...folds.values()];
  if (by === "state") return all;
  const rest = all.filter((f) => !f.open).sort((a, b) => a.label.localeCompare(b.label));
  return [...all.filter((f) => f.open), ...rest];
}
