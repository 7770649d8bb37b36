import { type scaleTime } from "d3-scale";
import { useState } from "react";

import { DAY, HOUR, useTime } from "./time";
import { readMoment, stamp } from "./times";
import { zonedTicks } from "./zonedticks";
import { ago } from "./words";

export const AXIS = 46;
const spans: [string, number][] = [
  ["hours", 12 * HOUR],
  ["days", 3 * DAY],
  ["weeks", 30 * DAY],
  ["quarter", 100 * DAY],
  ["year", 400 * DAY],
  ["years", 8 * 365 * DAY],
];

export function Controls() {
  const time = useTime();
  const [text, setText] = useState("");
  const [wrong, setWrong] = useState(false);
  const now = Date.now();
  return (
    <div className="flex flex-wrap items-baseline gap-x-4 gap-y-1 pb-2 text-sm">
      <form
        className="flex items-baseline gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          const m = readMoment(text);
          setWrong(!m);
          if (m) {
            time.choose(m.getTime());
            if (m.getTime() < time.from || m.getTime() > time.to)
              time.show(m.getTime() - (time.to - time.from) / 2, m.getTime() + (time.to - time.from) / 2);
          }
        }}
      >
        <label htmlFor="moment" className="font-semibold">
          As of
        </label>
        <input
          id="moment"
          className="field w-52 font-mono"
          placeholder={time.moment ? stamp(new Date(time.moment)) : "the newest state"}
          value={text}
          onChange={(e) => setText(e.target.value)}
          aria-invalid={wrong}
          aria-describedby="moment-help"
        />
        <button className="press" type="submit">
          Go there
        </button>
        {time.moment !== undefined && (
          <button
            className="quiet"
            type="button"
            onClick={() => {
              time.choose(undefined);
              setText("");
            }}
          >
            newest state
          </button>
        )}
      </form>
      <span id="moment-help" className={wrong ? "text-hand" : "text-faint"}>
        {wrong
          ? "Write 2026-03-04 14:05 or -2h."
          : time.moment
            ? ago(new Date(time.moment))
            : "2026-03-04 14:05 or -2h, or click on the ruler"}
      </span>
      <span className="ml-auto flex gap-3" role="group" aria-label="Zoom">
        {spans.map(([name, width]) => {
          const middle = time.moment ?? now - width * 0.42;
          const on = Math.abs(Math.log2((time.to - time.from) / width)) < 0.4;
          return (
            <button
              key={name}
              className={`cursor-pointer ${on ? "font-semibold border-b-2 border-ink" : "quiet"}`}
              aria-pressed={on}
              onClick={() => time.show(middle - width / 2, middle + width / 2)}
            >
              {name}
            </button>
          );
        })}
      </span>
    </div>
  );
}

/** The words of the axis; the lines below them are drawn by Ticks. */
export function Axis({ x, plot }: { x: ReturnType<typeof scaleTime<number, number>>; plot: number }) {
  return (
    <>
      {ticksOf(x, plot).map((t) => (
        <g key={+t.at} transform={`translate(${x(t.at)},0)`}>
          <line y1={AXIS - 7} y2={AXIS} stroke="var(--rule)" strokeWidth={0.7} />
          <text y={AXIS - 13} x={3} fontSize={12} fill="var(--faint)">
            {t.label}
          </text>
        </g>
      ))}
      <line x1={0} x2={plot} y1={AXIS - 7} y2={AXIS - 7} stroke="var(--ink)" strokeWidth={0.8} />
    </>
  );
}

function ticksOf(x: ReturnType<typeof scaleTime<number, number>>, plot: number) {
  const all = zonedTicks(x, Math.max(3, plot / 150));
  return all.filter((t, i) => i === 0 || x(t.at) - x(all[i - 1].at) > 62);
}

export function Ticks({
  x,
  plot,
  height,
}: {
  x: ReturnType<typeof scaleTime<number, number>>;
  plot: number;
  height: number;
}) {
  return (
    <>
      {ticksOf(x, plot).map((t) => (
        <line key={+t.at} x1={x(t.at)} x2={x(t.at)} y2={height} stroke="var(--rule)" strokeWidth={0.7} />
      ))}
    </>
  );
}

/** A moment's line through what is drawn, and its name at the head of the ruler. */
export function Flag({ x, colour, dash, height }: { x: number; colour: string; dash: boolean; height: number }) {
  return (
    <line
      x1={x}
      x2={x}
      y1={0}
      y2={height}
      stroke={colour}
      strokeWidth={1.6}
      strokeDasharray={dash ? "5 3" : undefined}
    />
  );
}

export function FlagName({ x, colour, label, plot }: { x: number; colour: string; label: string; plot: number }) {
  const stamped = label.length > 5;
  const w = stamped ? label.length * 7 + 10 : 30;
  const left = x + w > plot ? x - w : x;
  return (
    <>
      <rect x={left} y={0} width={w} height={16} fill={colour} />
      <text
        x={left + 4}
        y={12}
        fontSize={11.5}
        fontWeight={600}
        fill="var(--paper)"
        fontFamily={stamped ? "var(--font-mono)" : undefined}
      >
        {label}
      </text>
    </>
  );
}

export function Legend() {
  const item = "inline-flex items-center gap-1";
  return (
    <p className="grid grid-cols-2 gap-x-4 pt-1 text-xs text-faint sm:flex sm:flex-wrap">
      <span className={item}>
        <svg width="12" height="12" aria-hidden>
          <rect x="1" y="7" width="3" height="5" fill="var(--ink)" />
          <rect x="7" y="1" width="3" height="11" fill="var(--ink)" />
        </svg>
        taller: kept by a wider tier
      </span>
      <span className={item}>
        <svg width="16" height="12" aria-hidden>
          <rect x="0" y="6" width="16" height="5" fill="var(--ink)" />
        </svg>
        longer: seen unchanged
      </span>
      <span className={item}>
        <svg width="12" height="12" aria-hidden>
          <path d="M6,1 l5,5 l-5,5 l-5,-5 z" fill="var(--ink)" />
        </svg>
        by hand
      </span>
      <span className={item}>
        <svg width="12" height="12" aria-hidden>
          <path d="M3,12 v-11 h7 l-2.5,3 l2.5,3 h-7" fill="var(--ink)" stroke="var(--ink)" strokeWidth="1.2" />
        </svg>
        marked to keep
      </span>
      <span className={item}>
        <svg width="12" height="12" aria-hidden>
          <rect x="1" y="4" width="9" height="7" fill="none" stroke="var(--faint)" strokeDasharray="2 1.5" />
        </svg>
        in grace
      </span>
      <span className={item}>
        <svg width="12" height="12" aria-hidden>
          <rect width="12" height="12" fill="url(#gap)" />
        </svg>
        gap
      </span>
      <span className={item}>
        <svg width="8" height="12" aria-hidden>
          <rect x="1" y="3" width="4" height="7" fill="none" stroke="var(--now)" />
        </svg>
        planned
      </span>
    </p>
  );
}
