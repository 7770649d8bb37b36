import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { scaleLinear, scaleTime } from "d3-scale";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";

import { api, once, type Schemas, told } from "../api/client";
import { Described } from "../parts/described";
import { ByCommand, Sheet, State, Trouble, Waiting } from "../parts/ui";
import { stamp } from "../parts/times";
import { ago, size, span } from "../parts/words";
import { zonedTicks } from "../parts/zonedticks";
import { RouteForm } from "./routeform";
import { Wide } from "../parts/wide";

/** One route: what it is doing, how it went, and what it says. */
export function RoutePage() {
  const name = useParams().name!;
  const go = useNavigate();
  const queries = useQueryClient();
  const [editing, setEditing] = useState(false);
  const [closing, setClosing] = useState(false);
  const params = { path: { name } };
  const route = useQuery({
    queryKey: ["routes", name],
    queryFn: () => told(api.GET("/routes/{name}", { params })),
    refetchInterval: 5_000,
  });
  const traffic = useQuery({
    queryKey: ["routes", name, "traffic"],
    queryFn: () => told(api.GET("/routes/{name}/traffic", { params })),
    refetchInterval: 30_000,
  });
  const sites = useQuery({ queryKey: ["sites"], queryFn: () => told(api.GET("/sites")) });
  const run = useMutation({
    mutationFn: () => told(api.POST("/routes/{name}/runs", { params, headers: once() })),
    onSuccess: (x) => void go(`/runs/${x.id}`),
  });
  const hold = useMutation({
    mutationFn: (on: boolean) =>
      told(
        on
          ? api.POST("/routes/{name}/pause", { params, headers: once() })
          : api.POST("/routes/{name}/resume", { params, headers: once() }),
      ),
    onSuccess: () => queries.invalidateQueries(),
  });
  const end = useMutation({
    mutationFn: () => told(api.DELETE("/routes/{name}", { params, headers: once() })),
    onSuccess: () => {
      void queries.invalidateQueries();
      void go("/sites");
    },
  });
  if (route.isPending) return <Waiting what={name} />;
  if (route.error) return <Trouble error={route.error} />;
  const r = route.data;
  const peer = (sites.data ?? []).find((p) => p.name === (r.pull ? r.from : r.to));
  const t = r.terms;
  return (
    <>
      <div className="my-5 flex flex-wrap items-baseline gap-x-4 gap-y-2">
        <h1 className="head">{r.name}</h1>
        <span className="text-faint capitalize">
          {r.from} <span aria-hidden>→</span> {r.to}
        </span>
        <State word={r.state} />
        <Described kind="route" name={r.name} text={r.description} />
        <span className="ml-auto flex flex-wrap gap-3">
          <button className="press" onClick={() => run.mutate()} disabled={run.isPending || !!r.pausedSince}>
            {r.pull ? "Take now" : "Carry now"}
          </button>
          <button className="press" onClick={() => hold.mutate(!r.pausedSince)} disabled={hold.isPending}>
            {r.pausedSince ? "Go on" : "Pause"}
          </button>
          <button className="press" onClick={() => setEditing(true)}>
            Change
          </button>
          <button className="quiet text-sm" onClick={() => setClosing(true)}>
            close it
          </button>
        </span>
      </div>
      <p className="font-say text-lg">{r.sentence}</p>
      <Trouble error={run.error ?? hold.error ?? end.error} />
      <p className="my-2 text-sm text-faint">
        Volumes{" "}
        {Object.entries(r.labels ?? {})
          .map((l) => l.join("="))
          .join(" and ") || (r.names ?? []).join(", ")}
        ; {t.when || (r.pull ? "every 15 minutes" : "after every snapshot")};{" "}
        {t.carry === "all" ? "all snapshots" : t.carry ? `snapshots labelled ${t.carry}` : "what the rules there keep"}
        {t.cap && `; at most ${t.cap}`}
        {(t.pace ?? []).length > 0 && `; at its own pace: ${t.pace!.join(", else ")}`}
        {t.priority ? `; priority ${t.priority}` : ""}
        {t.withinSeconds ? `; to finish within ${span(t.withinSeconds)}` : ""}
        {(t.in ?? []).length > 0 && `; only ${t.in!.join(", ")}`}
        {(t.out ?? []).length > 0 && `; without ${t.out!.join(", ")}`}
        {t.by && `; by ${t.by} alone`}
        {t.standby && `; laid out there, ${t.standby}`}
        {t.onward && "; volumes of other sites too"}. {size(r.sentBytes)} came over it in all, {size(r.savedBytes)} did
        not have to. {r.lastOk ? `Last done ${ago(r.lastOk)}.` : ""}
      </p>
      <div className="grid grid-cols-1 gap-x-10 lg:grid-cols-2">
        <Curve points={traffic.data ?? []} of="lagSeconds" label="How old the newest state there was" />
        <Curve
          points={traffic.data ?? []}
          of="rate"
          label={`Rate of its runs${peer && peer.pace.nowBytes > 0 ? `; the limit is ${peer.pace.now} now` : ""}`}
          limit={peer && peer.pace.nowBytes > 0 ? peer.pace.nowBytes : undefined}
        />
      </div>
      <Wide label="Route">
        <table className="plain my-4">
          <thead>
            <tr>
              <th scope="col">Volume</th>
              <th scope="col">Newest state there</th>
              <th scope="col">Lag</th>
              <th scope="col">Backlog</th>
              <th scope="col">{r.pull ? "Here" : "Carried"}</th>
            </tr>
          </thead>
          <tbody>
            {(r.volumes ?? []).map((v) => (
              <tr key={v.volume}>
                <td>
                  <Link className="quiet" to={`/volumes/${encodeURIComponent(v.volume)}`}>
                    {v.volume}
                  </Link>
                </td>
                <td className="font-mono">{v.newest ? stamp(v.newest) : "none yet"}</td>
                <td>{v.newest ? span(v.lagSeconds) : "–"}</td>
                <td>{v.backlog}</td>
                <td>{v.carried}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </Wide>
      {editing && <RouteForm open close={() => setEditing(false)} peers={sites.data ?? []} route={r} />}
      <Sheet title={`Close ${r.name}`} open={closing} close={() => setClosing(false)}>
        <p className="text-sm">
          Nothing more goes over it. What it carried stays at {r.to}
          {r.pull ? "" : "; nothing here is owed to it any more"}.
        </p>
        <button className="press press-hand my-3" onClick={() => end.mutate()} disabled={end.isPending}>
          Close it
        </button>
      </Sheet>
      <ByCommand lines={[`candid route show ${r.name}`, `candid route edit ${r.name} --cap "5 Mbit/s"`]} />
    </>
  );
}

/** How something went over the last days; what has no point is not drawn over. */
function Curve({
  points,
  of,
  label,
  limit,
}: {
  points: Schemas["Traffic"][];
  of: "lagSeconds" | "rate";
  label: string;
  limit?: number;
}) {
  const W = 560,
    H = 150,
    left = 70,
    bottom = 22;
  const value = (p: Schemas["Traffic"]) => (of === "rate" ? (p.seconds > 0 ? p.sent / p.seconds : 0) : p.lagSeconds);
  const shown = of === "rate" ? points.filter((p) => p.sent > 0) : points;
  const text = (n: number) => (of === "rate" ? `${size(n)}/s` : span(n));
  if (shown.length < 2)
    return (
      <figure className="my-3">
        <figcaption className="text-sm font-semibold">{label}</figcaption>
        <p className="py-2 text-sm text-faint">Drawn once it has run a few times.</p>
      </figure>
    );
  const most = Math.max(1, limit ?? 0, ...shown.map(value));
  const x = scaleTime([new Date(shown[0].at), new Date(shown.at(-1)!.at)], [left, W - 10]);
  const y = scaleLinear([0, most], [H - bottom, 8]).nice(4);
  const at = (p: Schemas["Traffic"]) => `${x(new Date(p.at)).toFixed(1)},${y(value(p)).toFixed(1)}`;
  return (
    <figure className="my-3">
      <figcaption className="text-sm font-semibold">{label}</figcaption>
      <Wide label="Route">
        <svg
          viewBox={`0 0 ${W} ${H}`}
          className="block w-full min-w-[460px]"
          role="img"
          aria-label={
            `${label}: ${text(value(shown.at(-1)!))} at the end, ` + `${text(Math.max(...shown.map(value)))} at most`
          }
        >
          {y.ticks(4).map((t) => (
            <g key={t}>
              <line x1={left} x2={W - 10} y1={y(t)} y2={y(t)} stroke="var(--rule)" />
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
          {limit && (
            <>
              <line x1={left} x2={W - 10} y1={y(limit)} y2={y(limit)} stroke="var(--hand)" strokeDasharray="6 4" />
              <text x={W - 12} y={y(limit) + 13} textAnchor="end" fontSize={11} fill="var(--hand)">
                limit
              </text>
            </>
          )}
          {of === "rate" ? (
            shown.map((p) => (
              <line
                key={p.at}
                x1={x(new Date(p.at))}
                x2={x(new Date(p.at))}
                y1={y(0)}
                y2={y(value(p))}
                stroke="var(--ink)"
                strokeWidth={2}
              >
                <title>{`${stamp(p.at)}: ${size(p.sent)} in ${p.seconds.toFixed(1)} s`}</title>
              </line>
            ))
          ) : (
            <path fill="none" stroke="var(--ink)" strokeWidth={1.6} d={`M${shown.map(at).join("L")}`} />
          )}
        </svg>
      </Wide>
    </figure>
  );
}
