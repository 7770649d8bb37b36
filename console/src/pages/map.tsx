import { Link } from "react-router";

import type { Route, Schemas } from "../api/client";
import { size, span } from "../parts/words";

type Peer = Schemas["Peer"];

const W = 1000,
  NODE = 108,
  BETWEEN = 62;

type MapProps = { self: string; peers: Peer[]; routes: Route[]; taken: Record<string, number> };

/** Sites as places on a chart, routes as the lines between them, with what they say of themselves. */
export function SiteMap({ self, peers, routes, taken }: MapProps) {
  const lines = peers.flatMap((p) => [
    ...(p.name in taken ? [{ peer: p.name, key: `taken ${p.name}`, route: undefined as Route | undefined }] : []),
    ...routes
      .filter((r) => r.from === p.name || r.to === p.name)
      .map((r) => ({ peer: p.name, key: r.name, route: r as Route | undefined })),
  ]);
  const H = Math.max(peers.length * NODE, lines.length * BETWEEN + 40);
  const mid = H / 2,
    x0 = 170,
    x1 = 800;
  const rows = peers.map((p, i) => ({
    p,
    y: ((i + 0.5) * H) / peers.length,
    own: lines.filter((l) => l.peer === p.name),
  }));
  const spread = (k: number, n: number, step: number) => (k - (n - 1) / 2) * step;
  return (
    <>
      <NarrowMap self={self} peers={peers} routes={routes} taken={taken} />
      <svg
        viewBox={`0 0 ${W} ${H}`}
        className="my-3 hidden w-full md:block"
        role="group"
        aria-label={`${self} and ${peers.map((p) => p.name).join(", ")}, with ${routes.length} routes`}
      >
        {rows.map(({ p, y, own }) => (
          <g key={p.name}>
            {own.length === 0 && <line x1={x0} y1={mid} x2={x1} y2={y} stroke="var(--rule)" strokeDasharray="2 6" />}
            {own.map((l, k) => {
              const all = lines.findIndex((o) => o.key === l.key);
              const at = {
                x0,
                y0: mid + spread(all, lines.length, 9),
                x1,
                y1: y + spread(k, own.length, 16),
                my: mid + spread(all, lines.length, BETWEEN),
              };
              return l.route ? (
                <RouteLine key={l.key} r={l.route} away={l.route.from === self} {...at} />
              ) : (
                <Line
                  key={l.key}
                  {...at}
                  away
                  color="var(--ink)"
                  dash="9 5"
                  head={`${p.name} takes copies for itself`}
                  facts={`newest state ${span(taken[p.name])} old, as it last said`}
                />
              );
            })}
          </g>
        ))}
        <Place x={x0 - 20} y={mid} name={self} anchor="end" words={["this site"]} up />
        {rows.map(({ p, y }) => (
          <Place key={p.name} x={x1 + 20} y={y} name={p.name} anchor="start" up={p.up} words={lineWords(p)} />
        ))}
      </svg>
    </>
  );
}

/** The same for windows in which the chart would be cut: each site with its lines below it. */
function NarrowMap({ self, peers, routes, taken }: MapProps) {
  return (
    <ul className="my-3 md:hidden" aria-label={`Sites that ${self} knows`}>
      {peers.map((p) => (
        <li key={p.name} className="my-3 border-l-2 border-ink pl-3">
          <p className="font-say text-xl font-semibold capitalize">{p.name}</p>
          <p className="text-sm text-faint">{lineWords(p).join("; ")}</p>
          {routes
            .filter((r) => r.from === p.name || r.to === p.name)
            .map((r) => {
              const { dash, color, facts } = lookOf(r);
              return (
                <div key={r.name} className="mt-2 text-sm">
                  <svg width="40" height="10" className="mr-2 inline-block" aria-hidden>
                    <line x1="2" x2="38" y1="5" y2="5" stroke={color} strokeWidth={1.8} strokeDasharray={dash} />
                    <path
                      d={r.from === self ? "M31,1 L38,5 L31,9" : "M9,1 L2,5 L9,9"}
                      fill="none"
                      stroke={color}
                      strokeWidth={1.8}
                    />
                  </svg>
                  <Link className="quiet inline-block py-1 font-semibold" to={`/routes/${encodeURIComponent(r.name)}`}>
                    {r.name}
                  </Link>{" "}
                  is {r.state}
                  <div className="text-faint">{facts}</div>
                </div>
              );
            })}
          {p.name in taken && (
            <p className="mt-2 text-sm">
              It takes copies for itself; newest state {span(taken[p.name])} old, as it last said.
            </p>
          )}
        </li>
      ))}
    </ul>
  );
}

const lineWords = (p: Peer) => [
  p.up ? "line up" : "no line",
  p.pace.nowBytes < 0 ? "no limit to it" : `${p.pace.now} to it`,
];

function Place({
  x,
  y,
  name,
  anchor,
  words,
  up,
}: {
  x: number;
  y: number;
  name: string;
  anchor: "start" | "end";
  words: string[];
  up: boolean;
}) {
  const at = anchor === "end" ? x + 10 : x - 10;
  return (
    <g>
      <circle cx={at} cy={y} r={9} fill="var(--paper)" stroke="var(--ink)" strokeWidth={2} />
      {up && <circle cx={at} cy={y} r={4} fill="var(--ink)" />}
      <text
        x={x - (anchor === "end" ? 12 : -12)}
        y={y + 2}
        textAnchor={anchor}
        fontSize={24}
        fontFamily="var(--font-say)"
        fontWeight={600}
        fill="var(--ink)"
        className="capitalize"
      >
        {name}
      </text>
      {words.map((w, i) => (
        <text
          key={w}
          x={x - (anchor === "end" ? 12 : -12)}
          y={y + 20 + i * 16}
          textAnchor={anchor}
          fontSize={13}
          fill="var(--faint)"
        >
          {w}
        </text>
      ))}
    </g>
  );
}

/** Solid when it holds, dotted when it waits, broken with a cross when it fails. */
function lookOf(r: Route) {
  const broken = r.state === "no line" || r.state === "refused";
  const waits = r.state === "waiting" || r.state === "paused";
  const volumes = r.volumes ?? [];
  const worst = Math.max(0, ...volumes.map((v) => v.lagSeconds));
  const backlog = volumes.reduce((n, v) => n + v.backlog, 0);
  const known = volumes.some((v) => v.newest);
  const facts = [
    known ? `newest state ${span(worst)} old` : "no copy yet",
    backlog ? `${backlog} to carry` : "",
    r.rate ? `${size(r.rate)}/s now` : "",
  ]
    .filter(Boolean)
    .join(" · ");
  return {
    broken,
    color: broken ? "var(--hand)" : "var(--ink)",
    dash: broken ? "7 6" : waits ? "2 5" : undefined,
    facts,
  };
}

function RouteLine({
  r,
  ...place
}: {
  r: Route;
  away: boolean;
  x0: number;
  y0: number;
  x1: number;
  y1: number;
  my: number;
}) {
  const { broken, color, dash, facts } = lookOf(r);
  return (
    <Line
      {...place}
      color={color}
      wide={!!r.rate}
      dash={dash}
      cross={broken}
      head={r.name}
      state={r.state}
      link={`/routes/${encodeURIComponent(r.name)}`}
      facts={facts}
    />
  );
}

type LineProps = {
  away: boolean;
  x0: number;
  y0: number;
  x1: number;
  y1: number;
  my: number;
  color: string;
  wide?: boolean;
  dash?: string;
  cross?: boolean;
  head: string;
  state?: string;
  link?: string;
  facts: string;
};

function Line({ away, x0, y0, x1, y1, my, color, wide, dash, cross, head, state, link, facts }: LineProps) {
  const mx = (x0 + x1) / 2;
  const d = `M${x0},${y0} Q${x0 + 120},${my} ${mx},${my} Q${x1 - 120},${my} ${x1},${y1}`;
  const [ax, ay, fx, fy] = away ? [x1, y1, x1 - 60, my + (y1 - my) * 0.55] : [x0, y0, x0 + 60, my + (y0 - my) * 0.55];
  const turn = (Math.atan2(ay - fy, ax - fx) * 180) / Math.PI;
  const halo = { stroke: "var(--paper)", strokeWidth: 5, paintOrder: "stroke", strokeLinejoin: "round" } as const;
  const words = (
    <text
      x={mx}
      y={my - 8}
      textAnchor="middle"
      fontSize={15}
      fontWeight={600}
      fill={color}
      textDecoration={link ? "underline" : undefined}
      className={link ? "cursor-pointer" : undefined}
    >
      {head}
      {state && <tspan fontWeight={400}>{` is ${state}`}</tspan>}
    </text>
  );
  return (
    <g>
      <path d={d} fill="none" stroke={color} strokeWidth={wide ? 3 : 1.8} strokeDasharray={dash} />
      <path
        d="M-11,-6 L0,0 L-11,6"
        fill="none"
        stroke={color}
        strokeWidth={2}
        transform={`translate(${ax},${ay}) rotate(${turn})`}
      />
      {cross && <path d={`M${mx - 180},${my - 8} l16,16 m0,-16 l-16,16`} stroke="var(--hand)" strokeWidth={2.4} />}
      {link ? <Link to={link}>{words}</Link> : words}
      <text x={mx} y={my + 18} textAnchor="middle" fontSize={13} fill="var(--faint)" {...halo}>
        {facts}
      </text>
    </g>
  );
}
