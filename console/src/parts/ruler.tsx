import { useQueries } from "@tanstack/react-query";
import { scaleTime } from "d3-scale";
import { type KeyboardEvent, type PointerEvent, useEffect, useLayoutEffect, useRef, useState } from "react";
import { Link } from "react-router";

import { api, type Timeline, told } from "../api/client";
import { type Drawn, placeMarks } from "./marks";
import { DAY, HOUR, useTime } from "./time";
import { ago, readMoment, stamp } from "./words";

const AXIS = 46;
const spans: [string, number][] = [
  ["hours", 12 * HOUR],
  ["days", 3 * DAY],
  ["weeks", 30 * DAY],
  ["quarter", 100 * DAY],
  ["year", 400 * DAY],
  ["years", 8 * 365 * DAY],
];

/** Fetches timelines by whole stretches, so that dragging does not ask again. */
function useTimelines(volumes: string[], from: number, to: number) {
  const width = to - from;
  const step = 2 ** Math.ceil(Math.log2(width));
  const begin = Math.floor((from - step / 4) / step) * step;
  const end = Math.ceil((to + step / 4) / step) * step;
  return useQueries({
    queries: volumes.map((name) => ({
      queryKey: ["timeline", name, begin, end],
      queryFn: () =>
        told(
          api.GET("/volumes/{name}/timeline", {
            params: { path: { name }, query: { from: new Date(begin).toISOString(), to: new Date(end).toISOString() } },
          }),
        ),
      placeholderData: (old: Timeline | undefined) => old,
    })),
  });
}

export function Ruler({ volumes, tall = false }: { volumes: string[]; tall?: boolean }) {
  const time = useTime();
  const box = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(900);
  const [hover, setHover] = useState<{ x: number; y: number; text: string } | null>(null);
  useLayoutEffect(() => {
    const watch = new ResizeObserver(([e]) => setWidth(Math.max(200, e.contentRect.width)));
    watch.observe(box.current!);
    return () => watch.disconnect();
  }, []);
  const timelines = useTimelines(volumes, time.from, time.to);
  const now = Date.now();
  const names = width < 640 ? 0 : 190;
  const plot = width - names;
  const x = scaleTime().domain([time.from, time.to]).range([0, plot]);
  const at = (t: number) => x(t);
  const lane = tall ? 30 : 15;
  const rows: { name: string; top: number; lanes: NonNullable<Timeline["lanes"]>; data?: Timeline }[] = [];
  let y = AXIS;
  volumes.forEach((name, i) => {
    const data = timelines[i].data;
    const lanes = data?.lanes ?? [{ place: "", marks: [] }];
    rows.push({ name, top: y, lanes, data });
    y += lanes.length * lane + 10;
  });
  const height = y + 4;
  useWheel(box, names, plot);
  const drag = useDrag(plot, (px) => time.choose(x.invert(px).getTime()));
  const taken = [
    ...new Set(rows.flatMap((r) => r.lanes.flatMap((l) => (l.marks ?? []).map((m) => Date.parse(m.taken))))),
  ].sort((a, b) => a - b);
  const keys = (e: KeyboardEvent) => moveByKey(e, time, taken);
  return (
    <section aria-label="Time ruler" className="my-4">
      <Controls />
      <div
        ref={box}
        className="relative border-y border-ink bg-sheet"
        style={{ height }}
        onMouseLeave={() => setHover(null)}
      >
        <div
          role="slider"
          tabIndex={0}
          aria-label="Chosen moment"
          aria-valuemin={time.from}
          aria-valuemax={time.to}
          aria-valuenow={Math.min(time.to, Math.max(time.from, time.moment ?? now))}
          aria-valuetext={time.moment ? stamp(new Date(time.moment)) : "the newest state"}
          aria-description={
            "Left and right go from snapshot to snapshot, plus and minus zoom, " + "End returns to the newest state"
          }
          className="absolute inset-y-0 right-0 touch-none select-none overflow-hidden cursor-crosshair
            border-l border-rule"
          style={{ left: names }}
          onKeyDown={keys}
          {...drag}
        >
          <svg width={plot} height={height} className="block" aria-hidden>
            <defs>
              <pattern id="gap" width="5" height="5" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
                <line x1="0" y1="0" x2="0" y2="5" stroke="var(--hand)" strokeWidth="1.6" />
              </pattern>
            </defs>
            <Axis x={x} plot={plot} height={height} />
            {rows.map((r) => (
              <Row
                key={r.name}
                row={r}
                lane={lane}
                at={at}
                plot={plot}
                now={now}
                say={(px, py, text) => setHover({ x: px + names, y: py, text })}
              />
            ))}
            <Flag x={at(now)} height={height} colour="var(--now)" label="now" />
            {time.moment !== undefined && (
              <Flag
                x={at(time.moment)}
                height={height}
                colour="var(--hand)"
                label={stamp(new Date(time.moment))}
                wide
                plot={plot}
              />
            )}
          </svg>
        </div>
        {rows.map((r) => (
          <div
            key={r.name}
            className={`absolute left-0 px-2 text-sm truncate ${names ? "" : "text-xs"}`}
            style={{ top: r.top - 5, maxWidth: names || "100%" }}
          >
            {tall ? (
              r.lanes.map((l) => (
                <div key={l.place} style={{ height: lane, paddingTop: lane / 2 - 4 }} className="text-faint">
                  {l.place}
                </div>
              ))
            ) : (
              <Link
                to={`/volumes/${encodeURIComponent(r.name)}${location.search}`}
                className="quiet inline-block leading-6"
              >
                {r.name}
              </Link>
            )}
            {!tall && names > 0 && r.lanes.length > 1 && (
              <div className="-mt-1 text-xs leading-4 text-faint truncate">
                {r.lanes.map((l) => l.place).join(" / ")}
              </div>
            )}
          </div>
        ))}
        {hover && (
          <div
            role="tooltip"
            className="absolute z-10 pointer-events-none border border-ink bg-paper
              px-2 py-1 text-xs whitespace-pre-line"
            style={{ left: Math.min(hover.x + 10, width - 250), top: hover.y + 16, maxWidth: 240 }}
          >
            {hover.text}
          </div>
        )}
      </div>
      <Legend />
    </section>
  );
}

function Controls() {
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
          className="field w-44 font-mono"
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

function Axis({ x, plot, height }: { x: ReturnType<typeof scaleTime<number, number>>; plot: number; height: number }) {
  const many = Math.max(2, plot / 150);
  const form = x.tickFormat(many, undefined);
  const ticks = x.ticks(many).filter((t, i, all) => i === 0 || x(t) - x(all[i - 1]) > 62);
  return (
    <>
      {ticks.map((t) => (
        <g key={+t} transform={`translate(${x(t)},0)`}>
          <line y1={AXIS - 7} y2={height} stroke="var(--rule)" strokeWidth={0.7} />
          <text y={AXIS - 13} x={3} fontSize={12} fill="var(--faint)">
            {form(t)}
          </text>
        </g>
      ))}
      <line x1={0} x2={plot} y1={AXIS - 7} y2={AXIS - 7} stroke="var(--ink)" strokeWidth={0.8} />
    </>
  );
}

type RowProps = {
  row: { top: number; lanes: NonNullable<Timeline["lanes"]>; data?: Timeline };
  lane: number;
  at: (t: number) => number;
  plot: number;
  now: number;
  say: (x: number, y: number, text: string) => void;
};

function Row({ row, lane, at, plot, now, say }: RowProps) {
  return (
    <g transform={`translate(0,${row.top})`}>
      {row.lanes.map((l, i) => (
        <g key={l.place} transform={`translate(0,${i * lane})`}>
          <line x1={0} x2={plot} y1={lane - 1} y2={lane - 1} stroke="var(--rule)" strokeWidth={0.6} />
          {placeMarks(l.marks ?? [], at, plot, lane, now).map((d) => (
            <Tick key={d.mark.id} d={d} lane={lane} onOver={() => say(d.x, row.top + i * lane, describe(d, l.place))} />
          ))}
        </g>
      ))}
      {(row.data?.gaps ?? []).map((g) => {
        const from = at(Date.parse(g.from)) - 2;
        const to = Math.max(at(Date.parse(g.to)) + 2, from + 6);
        return (
          <rect
            key={g.from}
            x={from}
            width={to - from}
            y={0}
            height={lane - 1}
            fill="url(#gap)"
            onMouseMove={() =>
              say(from, row.top, `Gap: ${g.count} not taken, from ${stamp(g.from)} to ${stamp(g.to)}.\n${g.cause}`)
            }
          />
        );
      })}
      {(row.data?.planned ?? []).map((p) => (
        <rect
          key={p}
          x={at(Date.parse(p)) - 1.5}
          y={lane - 9}
          width={4}
          height={7}
          fill="none"
          stroke="var(--now)"
          strokeWidth={0.9}
        />
      ))}
    </g>
  );
}

function Tick({ d, lane, onOver }: { d: Drawn; lane: number; onOver: () => void }) {
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

function Mark({ d, lane, onOver }: { d: Drawn; lane: number; onOver: () => void }) {
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

function Flag({
  x,
  height,
  colour,
  label,
  wide,
  plot = 0,
}: {
  x: number;
  height: number;
  colour: string;
  label: string;
  wide?: boolean;
  plot?: number;
}) {
  const w = wide ? 122 : 30;
  const left = wide && x + w > plot ? x - w : x;
  return (
    <g>
      <line
        x1={x}
        x2={x}
        y1={0}
        y2={height}
        stroke={colour}
        strokeWidth={1.6}
        strokeDasharray={wide ? undefined : "5 3"}
      />
      <rect x={left} y={0} width={w} height={16} fill={colour} />
      <text
        x={left + 4}
        y={12}
        fontSize={11.5}
        fontWeight={600}
        fill="var(--paper)"
        fontFamily={wide ? "var(--font-mono)" : undefined}
      >
        {label}
      </text>
    </g>
  );
}

function Legend() {
  const item = "inline-flex items-center gap-1";
  return (
    <p className="flex flex-wrap gap-x-4 pt-1 text-xs text-faint">
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

function useWheel(box: React.RefObject<HTMLDivElement | null>, names: number, plot: number) {
  const time = useTime();
  useEffect(() => {
    const el = box.current!;
    const wheel = (e: WheelEvent) => {
      const upright = Math.abs(e.deltaX) <= Math.abs(e.deltaY);
      if (upright && !e.ctrlKey && !e.metaKey && !e.shiftKey) return; // the page scrolls
      e.preventDefault();
      const width = time.to - time.from;
      if (e.ctrlKey || e.metaKey) {
        const share = (e.clientX - el.getBoundingClientRect().left - names) / plot;
        const next = width * Math.exp(e.deltaY / 300);
        const pivot = time.from + share * width;
        time.show(pivot - share * next, pivot + (1 - share) * next);
      } else {
        const move = ((e.deltaX || e.deltaY) / plot) * width;
        time.show(time.from + move, time.to + move);
      }
    };
    el.addEventListener("wheel", wheel, { passive: false });
    return () => el.removeEventListener("wheel", wheel);
  });
}

/** Dragging moves the stretch; a press without a move chooses the moment. */
function useDrag(plot: number, click: (x: number) => void) {
  const time = useTime();
  const start = useRef<{ x: number; from: number; to: number; moved: boolean } | null>(null);
  return {
    onPointerDown: (e: PointerEvent<HTMLDivElement>) => {
      start.current = { x: e.clientX, from: time.from, to: time.to, moved: false };
      e.currentTarget.setPointerCapture(e.pointerId);
    },
    onPointerMove: (e: PointerEvent<HTMLDivElement>) => {
      const s = start.current;
      if (!s) return;
      const dx = e.clientX - s.x;
      s.moved = s.moved || Math.abs(dx) > 4;
      if (s.moved) time.show(s.from - (dx / plot) * (s.to - s.from), s.to - (dx / plot) * (s.to - s.from));
    },
    onPointerUp: (e: PointerEvent<HTMLDivElement>) => {
      const s = start.current;
      start.current = null;
      const px = e.clientX - e.currentTarget.getBoundingClientRect().left;
      if (s && !s.moved) click(px);
    },
  };
}

function moveByKey(e: KeyboardEvent, time: ReturnType<typeof useTime>, taken: number[]) {
  const width = time.to - time.from;
  const here = time.moment ?? Date.now();
  const go = (t: number | undefined) => {
    if (t === undefined) return;
    time.choose(t);
    if (t < time.from || t > time.to) time.show(t - width / 2, t + width / 2);
  };
  if (e.key === "ArrowLeft") go(taken.filter((t) => t < here - 999).at(-1));
  else if (e.key === "ArrowRight") go(taken.find((t) => t > here + 999));
  else if (e.key === "End") time.choose(undefined);
  else if (e.key === "Home") go(taken[0]);
  else if (e.key === "+" || e.key === "=") time.show(time.from + width / 4, time.to - width / 4);
  else if (e.key === "-") time.show(time.from - width / 2, time.to + width / 2);
  else return;
  e.preventDefault();
}
