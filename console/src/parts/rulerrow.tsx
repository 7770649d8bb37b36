import { memo, type MouseEvent, useDeferredValue, useMemo } from "react";

import type { Timeline } from "../api/client";
import { type Drawn, placeMarks, planPath } from "./marks";
import { stamp } from "./times";

type Lanes = NonNullable<Timeline["lanes"]>;
const none: Lanes = [];
/** Shows words about what is under the pointer. */
export type Say = (e: MouseEvent, text: string) => void;

type RowProps = {
  lanes: Lanes;
  data: Timeline | undefined;
  /** The heights of a lane, of what stands above the row, and above each of its lanes. */
  lane: number;
  above: number;
  between: number;
  from: number;
  to: number;
  plot: number;
  now: number;
  say: Say;
};

/** The snapshots, gaps and plans of one volume; drawn anew only if they or the view change. */
export const Row = memo(function Row({ lanes: fresh, data, lane, above, between, from, to, plot, now, say }: RowProps) {
  const lanes = useDeferredValue(fresh, none); // many marks are drawn between frames, not in one
  const at = (t: number) => ((t - from) / (to - from)) * plot;
  const drawn = useMemo(
    () => lanes.map((l) => placeMarks(l.marks ?? [], (t) => ((t - from) / (to - from)) * plot, plot, lane, now)),
    [lanes, from, to, plot, lane, now],
  );
  const plan = useMemo(
    () => planPath(data?.planned ?? [], (t) => ((t - from) / (to - from)) * plot, plot, lane - 9),
    [data?.planned, from, to, plot, lane],
  );
  return (
    <g transform={`translate(0,${above + between})`}>
      {lanes.map((l, i) => (
        <g key={l.place} transform={`translate(0,${i * (lane + between)})`}>
          <line x1={0} x2={plot} y1={lane - 1} y2={lane - 1} stroke="var(--rule)" strokeWidth={0.6} />
          {drawn[i].map((d) => (
            <Tick key={d.mark.id} d={d} lane={lane} onOver={(e) => say(e, describe(d, l.place))} />
          ))}
        </g>
      ))}
      {(data?.gaps ?? []).map((g) => {
        const begin = at(Date.parse(g.from)) - 2;
        const end = Math.max(at(Date.parse(g.to)) + 2, begin + 6);
        return (
          <rect
            key={g.from}
            x={begin}
            width={end - begin}
            y={0}
            height={lane - 1}
            fill="url(#gap)"
            onMouseMove={(e) =>
              say(e, `Gap: ${g.count} not taken, from ${stamp(g.from)} to ${stamp(g.to)}.\n${g.cause}`)
            }
          />
        );
      })}
      {plan && <path d={plan} fill="none" stroke="var(--now)" strokeWidth={0.9} />}
    </g>
  );
});

function Tick({ d, lane, onOver }: { d: Drawn; lane: number; onOver: (e: MouseEvent) => void }) {
  return (
    <>
      {d.pinned && (
        <path
          d={`M${d.x + 1},${lane - 1} v${2 - lane} h7 l-2.5,3 l2.5,3 h-7`}
          fill="var(--ink)"
          stroke="var(--ink)"
          strokeWidth={1.2}
          onMouseMove={onOver}
        />
      )}
      <Mark d={d} lane={lane} onOver={onOver} />
    </>
  );
}

function Mark({ d, lane, onOver }: { d: Drawn; lane: number; onOver: (e: MouseEvent) => void }) {
  const top = lane - 1 - d.height;
  if (d.mark.tier === "by hand") {
    const m = lane / 2;
    return (
      <path d={`M${d.x + 1},${m - 5} l5,5 l-5,5 l-5,-5 z`} fill="var(--ink)" opacity={d.opacity} onMouseMove={onOver} />
    );
  }
  if (d.mark.state !== "kept") {
    return (
      <rect
        x={d.x}
        y={top}
        width={d.width}
        height={d.height}
        fill="none"
        stroke="var(--faint)"
        strokeDasharray="2 1.5"
        onMouseMove={onOver}
      />
    );
  }
  return (
    <rect
      x={d.x}
      y={top}
      width={d.width}
      height={d.height}
      fill={d.mark.tier === "safety" ? "var(--hand)" : "var(--ink)"}
      opacity={d.opacity}
      onMouseMove={onOver}
    />
  );
}

function describe(d: Drawn, place: string): string {
  const m = d.mark;
  const lines = [`${stamp(m.taken)} at ${place}`];
  if (m.seenUntil !== m.taken) lines.push(`seen unchanged until ${stamp(m.seenUntil)}`);
  if (m.keep) lines.push(`marked to keep: ${m.keep}`);
  lines.push(m.state === "kept" ? `kept as ${m.why}` : `${m.state}${m.why ? `: ${m.why}` : ""}`);
  if (m.ends) lines.push(`goes about ${stamp(m.ends)}`);
  if (d.count > 1) lines.push(`and ${d.count - 1} more here`);
  return lines.join("\n");
}
