import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { scaleTime } from "d3-scale";
import {
  type ComponentProps,
  memo,
  type MouseEvent,
  startTransition,
  useCallback,
  useLayoutEffect,
  useMemo,
  useRef,
  useState,
} from "react";
import { Link, useLocation } from "react-router";

import { api, type Fold, type RulerLine, type Timeline, told } from "../api/client";
import { timeline } from "../api/timelines";
import { Axis, AXIS, Controls, Flag, FlagName, Legend, Ticks } from "./rulerframe";
import { moveByKey, useDrag, useWheel } from "./rulermoves";
import { Row } from "./rulerrow";
import { useTime } from "./time";
import { stamp } from "./times";
import { many } from "./words";

const HEADING = 30;

/** The stretch of time that is asked for: a whole one, so that dragging does not ask again. */
function stretchOf(from: number, to: number) {
  const step = 2 ** Math.ceil(Math.log2(to - from));
  return { begin: Math.floor((from - step / 4) / step) * step, end: Math.ceil((to + step / 4) / step) * step };
}

/** The timeline of a volume; what only passes by is not asked for. */
function useTimeline(name: string, begin: number, end: number, passing: boolean) {
  return useQuery({
    queryKey: ["timeline", name, begin, end],
    queryFn: ({ signal }) => timeline(name, begin, end, signal),
    placeholderData: keepPreviousData,
    enabled: !passing,
  }).data;
}

/** What one line of the ruler is: the heading of a fold, or a volume. */
type Line = { key: string; fold?: Fold; name?: string; volume?: RulerLine };

type RulerProps = {
  folds: Fold[];
  /** The folds that a person opened or folded, against how they come. */
  turned?: Set<string>;
  turn?: (key: string) => void;
};

/** The ruler over many volumes. Only the lines that are in sight are drawn and asked for. */
export function Ruler({ folds, turned, turn }: RulerProps) {
  const lines = useMemo(
    () =>
      folds.flatMap((f): Line[] => {
        const heading: Line[] = f.label ? [{ key: `fold ${f.key}`, fold: f }] : [];
        if (f.open === !!turned?.has(f.key)) return heading;
        return [...heading, ...(f.lines ?? []).map((v) => ({ key: v.name, name: v.name, volume: v }))];
      }),
    [folds, turned],
  );
  return <Lines lines={lines} turn={turn} tall={false} />;
}

/** The ruler of one volume, its places one below the other. */
export function TallRuler({ volume }: { volume: string }) {
  const lines = useMemo(() => [{ key: volume, name: volume }], [volume]);
  return <Lines lines={lines} tall />;
}

function Lines({ lines, turn, tall }: { lines: Line[]; turn?: (key: string) => void; tall: boolean }) {
  const time = useTime();
  const { search } = useLocation(); // the chosen moment goes along
  const box = useRef<HTMLDivElement>(null);
  const scroll = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(900);
  const [hover, setHover] = useState<{ x: number; y: number; text: string } | null>(null);
  useLayoutEffect(() => {
    const watch = new ResizeObserver(([e]) => setWidth(Math.max(200, e.contentRect.width)));
    watch.observe(box.current!);
    return () => watch.disconnect();
  }, []);
  const [minute, setMinute] = useState(() => Date.now());
  if (Date.now() - minute > 30_000) setMinute(Date.now());

  const names = width < 640 ? 0 : 190;
  const plot = width - names;
  const lane = tall ? 30 : 15;
  const above = names || tall ? 0 : 24; // the name's own line, where there is no column for it
  const between = !names && tall ? 20 : 0;
  const [lanes, setLanes] = useState<ReadonlyMap<string, string[]>>(new Map()); // the places of those seen before
  const heightOf = (l: Line) =>
    l.fold ? HEADING : above + (lanes.get(l.name!)?.length ?? l.volume?.places ?? 1) * (lane + between) + 10;
  const rows = useVirtualizer({
    count: lines.length,
    getScrollElement: () => scroll.current,
    estimateSize: (i) => heightOf(lines[i]),
    getItemKey: (i) => lines[i].key,
    overscan: 8,
  });
  useLayoutEffect(() => rows.measure(), [rows, lines, lanes, names]);
  const seen = rows.getVirtualItems().flatMap((item) => {
    const line = lines[item.index];
    return line ? [{ item, line }] : [];
  });
  const drawn = seen.filter((s) => s.line.name);
  const { begin, end } = stretchOf(time.from, time.to);
  const data = useRef(new Map<string, Timeline>());
  const came = useCallback((name: string, d: Timeline | undefined) => {
    if (!d) return void data.current.delete(name);
    data.current.set(name, d);
    const places = (d.lanes ?? []).map((l) => l.place);
    startTransition(() =>
      setLanes((old) => (old.get(name)?.join() === places.join() ? old : new Map(old).set(name, places))),
    );
  }, []);

  const x = scaleTime().domain([time.from, time.to]).range([0, plot]);
  const total = rows.getTotalSize();
  const top = seen[0]?.item.start ?? 0;
  const height = Math.max(0, (seen.at(-1)?.item.end ?? 0) - top);
  useWheel(box, names, plot);
  const drag = useDrag(plot, (px) => time.choose(x.invert(px).getTime()));
  const say = useCallback((e: MouseEvent, text: string) => {
    const r = box.current!.getBoundingClientRect();
    setHover({ x: e.clientX - r.left, y: e.clientY - r.top, text });
  }, []);
  const taken = () => {
    const all = [...data.current.values()].flatMap((d) => (d?.lanes ?? []).flatMap((l) => l.marks ?? []));
    return [...new Set(all.map((m) => Date.parse(m.taken)))].sort((a, b) => a - b);
  };
  return (
    <section aria-label="Time ruler" className="my-4">
      <Controls />
      <div ref={box} className="relative border-y border-ink bg-sheet" onMouseLeave={() => setHover(null)}>
        <div ref={scroll} className="max-h-[max(16rem,62vh)] overflow-y-auto overflow-x-hidden">
          <div className="relative" style={{ height: AXIS + total + 4 }}>
            {names > 0 && <div className="sticky top-0 z-10 bg-sheet" style={{ width: names, height: AXIS }} />}
            <div
              role="slider"
              tabIndex={0}
              aria-label="Chosen moment"
              aria-valuemin={time.from}
              aria-valuemax={time.to}
              aria-valuenow={Math.min(time.to, Math.max(time.from, time.moment ?? minute))}
              aria-valuetext={time.moment ? stamp(new Date(time.moment)) : "the newest state"}
              aria-description={
                "Left and right go from snapshot to snapshot, plus and minus zoom, End returns to the newest state"
              }
              className="absolute inset-y-0 right-0 touch-pan-y select-none cursor-crosshair
                border-l border-rule"
              style={{ left: names }}
              onKeyDown={(e) => moveByKey(e, time, taken)}
              {...drag}
            >
              <svg width={plot} height={AXIS} className="sticky top-0 z-10 block bg-sheet" aria-hidden>
                <Axis x={x} plot={plot} />
                <Flags names x={x} plot={plot} height={AXIS} now={minute} moment={time.moment} />
              </svg>
              <svg
                width={plot}
                height={height}
                className="absolute left-0 block overflow-hidden"
                style={{ top: AXIS + top }}
                aria-hidden
              >
                <defs>
                  <pattern id="gap" width="5" height="5" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
                    <line x1="0" y1="0" x2="0" y2="5" stroke="var(--hand)" strokeWidth="1.6" />
                  </pattern>
                </defs>
                <Ticks x={x} plot={plot} height={height} />
                {drawn.map(({ item, line }) => (
                  <g key={line.key} transform={`translate(0,${item.start - top})`}>
                    <Drawn
                      name={line.name!}
                      from={time.from}
                      to={time.to}
                      now={minute}
                      passing={rows.isScrolling}
                      {...{ begin, end, came, lane, above, between, plot, say }}
                    />
                  </g>
                ))}
                <Flags x={x} plot={plot} height={height} now={minute} moment={time.moment} />
              </svg>
            </div>
            {seen.map(({ item, line }) =>
              line.fold ? (
                <Heading
                  key={line.key}
                  fold={line.fold}
                  top={AXIS + item.start}
                  open={openAt(lines, item.index)}
                  turn={turn}
                />
              ) : (
                <div
                  key={line.key}
                  className="absolute left-0 truncate px-2 text-sm"
                  style={{ top: AXIS + item.start, maxWidth: names || "100%" }}
                >
                  {tall ? (
                    (lanes.get(line.name!) ?? none).map((place) => (
                      <div
                        key={place}
                        style={{ height: lane + between, paddingTop: names ? lane / 2 - 4 : 0 }}
                        className="text-faint"
                      >
                        {place}
                      </div>
                    ))
                  ) : (
                    <Name
                      volume={line.volume!}
                      places={lanes.get(line.name!) ?? none}
                      {...{ search }}
                      column={names > 0}
                    />
                  )}
                </div>
              ),
            )}
          </div>
        </div>
        {hover && (
          <div
            role="tooltip"
            className="absolute z-20 pointer-events-none border border-ink bg-paper
              px-2 py-1 text-xs whitespace-pre-line"
            style={{ left: Math.max(0, Math.min(hover.x + 10, width - 250)), top: hover.y + 16, maxWidth: 240 }}
          >
            {hover.text}
          </div>
        )}
      </div>
      <Legend />
    </section>
  );
}

const none: string[] = [];
const noLanes: NonNullable<Timeline["lanes"]> = [];

type DrawnProps = Omit<ComponentProps<typeof Row>, "lanes" | "data"> & {
  name: string;
  begin: number;
  end: number;
  passing: boolean;
  came: (name: string, d: Timeline | undefined) => void;
};

/** A volume's row, with what is asked for it. */
const Drawn = memo(function Drawn({ name, begin, end, passing, came, ...how }: DrawnProps) {
  const data = useTimeline(name, begin, end, passing);
  useLayoutEffect(() => {
    came(name, data);
    return () => came(name, undefined);
  }, [came, name, data]);
  return <Row lanes={data?.lanes ?? noLanes} data={data} {...how} />;
});

const openAt = (lines: Line[], i: number) => i + 1 < lines.length && !lines[i + 1].fold;

/** The heading of a fold, which opens and folds it. */
function Heading({ fold, top, open, turn }: { fold: Fold; top: number; open: boolean; turn?: (key: string) => void }) {
  return (
    <button
      className="absolute inset-x-0 flex cursor-pointer items-baseline gap-2 border-y border-rule bg-paper px-2
        text-left text-sm hover:bg-sea"
      style={{ top, height: HEADING }}
      aria-expanded={open}
      onClick={() => turn?.(fold.key)}
    >
      <span aria-hidden className="w-4 self-center">
        {open ? "▾" : "▸"}
      </span>
      <span className="self-center font-semibold">{fold.label}</span>
      <span className="self-center text-faint">{many(fold.lines?.length ?? 0, "volume")}</span>
    </button>
  );
}

type NameProps = { volume: RulerLine; places: string[]; column: boolean; search: string };

const Name = memo(function Name({ volume, places, column, search }: NameProps) {
  const queries = useQueryClient();
  const [why, setWhy] = useState<string>();
  const ask = () =>
    queries
      .fetchQuery({
        queryKey: ["volume", volume.name],
        queryFn: () => told(api.GET("/volumes/{name}", { params: { path: { name: volume.name } } })),
        staleTime: 10_000,
      })
      .then(
        (v) => setWhy(v.sentence),
        () => undefined, // its page says what is wrong
      );
  return (
    <>
      <Link
        to={`/volumes/${encodeURIComponent(volume.name)}${search}`}
        className="quiet inline-block leading-6"
        title={why}
        onPointerEnter={() => void ask()}
      >
        {volume.state && (
          <span aria-hidden className="inline-block pr-1 text-xs text-hand no-underline">
            ▲
          </span>
        )}
        {volume.name}
        {volume.state && <span className="sr-only">, {volume.state}</span>}
      </Link>
      {column && places.length > 1 && (
        <div className="-mt-1 text-xs leading-4 text-faint truncate">{places.join(" / ")}</div>
      )}
    </>
  );
});

/** Now, and the chosen moment. */
function Flags(f: {
  x: (t: number) => number;
  plot: number;
  height: number;
  now: number;
  moment: number | undefined;
  names?: boolean;
}) {
  const flags = [{ at: f.now, colour: "var(--now)", label: "now", dash: true }];
  if (f.moment !== undefined)
    flags.push({ at: f.moment, colour: "var(--hand)", label: stamp(new Date(f.moment)), dash: false });
  return flags.map((g) => (
    <g key={g.label}>
      <Flag x={f.x(g.at)} colour={g.colour} dash={g.dash} height={f.height} />
      {f.names && <FlagName x={f.x(g.at)} colour={g.colour} label={g.label} plot={f.plot} />}
    </g>
  ));
}
