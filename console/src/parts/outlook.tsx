import { scaleLinear, scaleTime } from "d3-scale";
import { useMemo } from "react";

import type { Schemas } from "../api/client";
import { stamp } from "./times";
import { exact, size, span } from "./words";
import { zonedTicks } from "./zonedticks";
import { Wide } from "./wide";

type Preview = Schemas["Preview"];
type Place = Schemas["PreviewPlace"];

const HOUR = 3600;
const steps: [number, string][] = [
  [HOUR, "1 hour"],
  [6 * HOUR, "6 hours"],
  [24 * HOUR, "1 day"],
  [7 * 24 * HOUR, "1 week"],
  [30 * 24 * HOUR, "1 month"],
  [365 * 24 * HOUR, "1 year"],
  [3 * 365 * 24 * HOUR, "3 years"],
  [7 * 365 * 24 * HOUR, "7 years"],
];
const heights: Record<string, number> = { hourly: 12, daily: 18, weekly: 24, monthly: 30, yearly: 36 };

/** Where a moment of some age stands, 0 now to 1 at the far end: each step back is as wide as the one before. */
export function ladderAt(age: number, oldest: number): number {
  const f = (s: number) => Math.log1p(Math.max(0, s) / (HOUR / 2));
  return oldest <= 0 ? 0 : f(age) / f(oldest);
}

/** The moments one could go back to at the end of the preview, now at the right. */
export function Ladder({ place, end }: { place: Place; end: string }) {
  const rungs = place.ladder ?? [];
  if (rungs.length === 0) return <p className="py-2 text-sm text-faint">There would be none.</p>;
  const age = (at: string) => (Date.parse(end) - Date.parse(at)) / 1000;
  const oldest = Math.max(HOUR, age(rungs[rungs.length - 1].taken) * 1.05);
  const W = 560,
    H = 62,
    X = (s: number) => W - 8 - ladderAt(s, oldest) * (W - 40);
  return (
    <Wide label="Outlook">
      <svg
        viewBox={`0 0 ${W} ${H}`}
        className="block w-full min-w-[460px]"
        role="img"
        aria-label={
          `${rungs.length} moments at ${place.place}, ` + `the oldest ${span(age(rungs[rungs.length - 1].taken))} back`
        }
      >
        <line x1={4} x2={W - 4} y1={42.5} y2={42.5} stroke="var(--ink)" />
        {steps
          .filter(([s]) => s <= oldest)
          .map(([s, label]) => (
            <g key={label}>
              <line x1={X(s)} x2={X(s)} y1={42} y2={47} stroke="var(--faint)" />
              <text x={X(s)} y={58} textAnchor="middle" fontSize={11} fill="var(--faint)">
                {label}
              </text>
            </g>
          ))}
        <text x={W - 8} y={58} textAnchor="end" fontSize={11} fill="var(--now)">
          now
        </text>
        {rungs.map((r) => {
          const h = heights[r.tier ?? ""] ?? 8;
          return (
            <line
              key={r.taken}
              x1={X(age(r.taken))}
              x2={X(age(r.taken))}
              y1={42 - h}
              y2={42}
              stroke="var(--ink)"
              strokeWidth={1.6}
            >
              <title>{`${stamp(r.taken)}: ${(r.reasons ?? []).join("; ")}`}</title>
            </line>
          );
        })}
      </svg>
    </Wide>
  );
}

const dashes = ["", "6 3", "2 3", "9 3 2 3"];

/** How something grows over the horizon, one line a place. */
export function Growth({ preview, of, label }: { preview: Preview; of: "count" | "bytes"; label: string }) {
  const W = 560,
    H = 150,
    left = 62,
    bottom = 22;
  const places = useMemo(() => preview.places ?? [], [preview]);
  const most = Math.max(1, ...places.flatMap((p) => (p.samples ?? []).map((s) => s[of])));
  const x = scaleTime([new Date(preview.from), new Date(preview.to)], [left, W - 74]);
  const y = scaleLinear([0, most], [H - bottom, 8]).nice(4);
  const text = (n: number) => (of === "bytes" ? size(n) : n.toLocaleString("en"));
  // Names at the ends of the lines, pushed apart where they would lie on each other.
  const ends = places.map((p) => ({ p, at: y((p.samples ?? []).at(-1)?.[of] ?? 0) })).sort((a, b) => a.at - b.at);
  ends.forEach((e, i) => {
    if (i > 0) e.at = Math.max(e.at, ends[i - 1].at + 13);
  });
  return (
    <figure className="my-3">
      <figcaption className="text-sm font-semibold">{label}</figcaption>
      <Wide label="Outlook">
        <svg
          viewBox={`0 0 ${W} ${H}`}
          className="block w-full min-w-[460px]"
          role="img"
          aria-label={places
            .map((p) => `${p.place}: ${text((p.samples ?? []).at(-1)?.[of] ?? 0)} at the end`)
            .join(", ")}
        >
          {y.ticks(4).map((t) => (
            <g key={t}>
              <line x1={left} x2={W - 74} y1={y(t)} y2={y(t)} stroke="var(--rule)" />
              <text x={left - 6} y={y(t) + 4} textAnchor="end" fontSize={11} fill="var(--faint)">
                {text(t)}
              </text>
            </g>
          ))}
          {zonedTicks(x, 5).map((t) => (
            <text key={+t.at} x={x(t.at)} y={H - 6} textAnchor="middle" fontSize={11} fill="var(--faint)">
              {t.label}
            </text>
          ))}
          {places.map((p, i) => (
            <path
              key={p.place}
              fill="none"
              stroke={i === 0 ? "var(--ink)" : "var(--now)"}
              strokeWidth={1.8}
              strokeDasharray={dashes[i % dashes.length]}
              d={(p.samples ?? [])
                .map((s, k) => `${k ? "L" : "M"}${x(new Date(s.at)).toFixed(1)},${y(s[of]).toFixed(1)}`)
                .join("")}
            />
          ))}
          {ends.map(({ p, at }) => (
            <text key={p.place} x={W - 70} y={at + 4} fontSize={12} fill="var(--ink)">
              {p.place}
              <title>{of === "bytes" ? exact((p.samples ?? []).at(-1)?.bytes ?? 0) : undefined}</title>
            </text>
          ))}
        </svg>
      </Wide>
    </figure>
  );
}
