import { Link } from "react-router";

import type { Route, Schemas } from "../api/client";
import { size, span } from "../parts/words";

type Peer = Schemas["Peer"];

const W = 1000, NODE = 150;

/** Sites as places on a chart, routes as the lines between them, with what they say of themselves. */
export function SiteMap({ self, peers, routes }: { self: string; peers: Peer[]; routes: Route[] }) {
  const count = Math.max(1, peers.length);
  const between = peers.map((p) => routes.filter((r) => r.from === p.name || r.to === p.name));
  const heights = between.map((rs) => Math.max(NODE, 60 + rs.length * 74));
  const H = heights.reduce((a, b) => a + b, 0) + 20;
  let top = 10;
  const rows = peers.map((p, i) => {
    const y = top + heights[i] / 2;
    top += heights[i];
    return { p, y, routes: between[i] };
  });
  const mid = count === 1 ? rows[0].y : H / 2;
  const x0 = 170, x1 = 800;
  return (
    <div className="overflow-x-auto">
      <svg viewBox={`0 0 ${W} ${H}`} className="my-3 block w-full min-w-[720px]" role="img" aria-label={`${self} and ${peers.map((p) => p.name).join(", ")}, with ${routes.length} routes`}>
        {rows.map(({ p, y, routes: rs }) => (
          <g key={p.name}>
            {rs.length === 0 && <line x1={x0} y1={mid} x2={x1} y2={y} stroke="var(--rule)" strokeDasharray="2 6" />}
            {rs.map((r, k) => {
              const off = (k - (rs.length - 1) / 2) * 74;
              return <RouteLine key={r.name} r={r} away={r.from === self} x0={x0} y0={mid + off * 0.25} x1={x1} y1={y + off * 0.55} my={(mid + y) / 2 + off} />;
            })}
          </g>
        ))}
        <Place x={x0 - 20} y={mid} name={self} anchor="end" words={["this site"]} up />
        {rows.map(({ p, y }) => <Place key={p.name} x={x1 + 20} y={y} name={p.name} anchor="start" up={p.up} words={[p.up ? "line up" : "no line", p.pace.nowBytes < 0 ? "no limit to it" : `${p.pace.now} to it`]} />)}
      </svg>
    </div>
  );
}

function Place({ x, y, name, anchor, words, up }: { x: number; y: number; name: string; anchor: "start" | "end"; words: string[]; up: boolean }) {
  const at = anchor === "end" ? x + 10 : x - 10;
  return (
    <g>
      <circle cx={at} cy={y} r={9} fill="var(--paper)" stroke="var(--ink)" strokeWidth={2} />
      {up && <circle cx={at} cy={y} r={4} fill="var(--ink)" />}
      <text x={x - (anchor === "end" ? 12 : -12)} y={y + 2} textAnchor={anchor} fontSize={24} fontFamily="var(--font-say)" fontWeight={600} fill="var(--ink)" className="capitalize">{name}</text>
      {words.map((w, i) => <text key={w} x={x - (anchor === "end" ? 12 : -12)} y={y + 20 + i * 16} textAnchor={anchor} fontSize={13} fill="var(--faint)">{w}</text>)}
    </g>
  );
}

/** Solid when it holds, dashed when it waits, broken with a cross when it fails. */
function RouteLine({ r, away, x0, y0, x1, y1, my }: { r: Route; away: boolean; x0: number; y0: number; x1: number; y1: number; my: number }) {
  const broken = r.state === "unreachable" || r.state === "refused";
  const waits = r.state === "waiting" || r.state === "paused";
  const mx = (x0 + x1) / 2;
  const d = `M${x0},${y0} Q${x0 + 120},${my} ${mx},${my} Q${x1 - 120},${my} ${x1},${y1}`;
  const [ax, ay, fx, fy] = away ? [x1, y1, x1 - 60, my + (y1 - my) * 0.55] : [x0, y0, x0 + 60, my + (y0 - my) * 0.55];
  const turn = (Math.atan2(ay - fy, ax - fx) * 180) / Math.PI;
  const volumes = r.volumes ?? [];
  const worst = Math.max(0, ...volumes.map((v) => v.lagSeconds));
  const backlog = volumes.reduce((n, v) => n + v.backlog, 0);
  const known = volumes.some((v) => v.newest);
  const facts = [known ? `newest state ${span(worst)} old` : "no copy yet", backlog ? `${backlog} to carry` : "", r.rate ? `${size(r.rate)}/s now` : ""].filter(Boolean).join(" · ");
  const color = broken ? "var(--hand)" : "var(--ink)";
  return (
    <g>
      <path d={d} fill="none" stroke={color} strokeWidth={r.rate ? 3 : 1.8} strokeDasharray={broken ? "7 6" : waits ? "2 5" : undefined} />
      <path d="M-11,-6 L0,0 L-11,6" fill="none" stroke={color} strokeWidth={2} transform={`translate(${ax},${ay}) rotate(${turn})`} />
      {broken && <path d={`M${mx - 200},${my - 8} l16,16 m0,-16 l-16,16`} stroke="var(--hand)" strokeWidth={2.4} />}
      <rect x={mx - 150} y={my - 21} width={300} height={43} fill="var(--paper)" />
      <Link to={`/routes/${encodeURIComponent(r.name)}`}>
        <text x={mx} y={my - 4} textAnchor="middle" fontSize={15} fontWeight={600} fill={color} textDecoration="underline">{r.name}<tspan fontWeight={400}>{` is ${r.state}`}</tspan></text>
      </Link>
      <text x={mx} y={my + 15} textAnchor="middle" fontSize={13} fill="var(--faint)">{facts}</text>
    </g>
  );
}
