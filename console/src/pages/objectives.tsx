import { useQuery } from "@tanstack/react-query";
import { useSearchParams } from "react-router";

import { api, type Schemas, told } from "../api/client";
import { saveTable } from "../parts/csv";
import { ByCommand, Trouble, Waiting } from "../parts/ui";
import { stamp } from "../parts/times";
import { span } from "../parts/words";
import { took } from "./steps";
import { Wide } from "../parts/wide";

type Report = Schemas["Objectives"];
type Row = Schemas["ObjectiveRow"];

const periods: [number, string][] = [
  [7, "7 days"],
  [30, "30 days"],
  [90, "90 days"],
  [365, "a year"],
];

export function Objectives() {
  const [params, setParams] = useSearchParams();
  const days = Number(params.get("days")) || 30;
  const report = useQuery({
    queryKey: ["objectives", days],
    queryFn: () =>
      told(
        api.GET("/reports/objectives", {
          params: { query: { since: new Date(Date.now() - days * 86400_000).toISOString() } },
        }),
      ),
    placeholderData: (old) => old,
  });
  const choose = (d: number) =>
    setParams((old) => {
      const n = new URLSearchParams(old);
      n.set("days", String(d));
      return n;
    });
  if (report.isPending) return <Waiting what="what became of the objectives" />;
  if (report.error) return <Trouble error={report.error} />;
  const r = report.data;
  const rows = r.rows ?? [];
  const late = rows.filter((x) => x.lateSeconds > 0 || x.unprotectedSeconds > 0).length;
  return (
    <>
      <div className="my-5 flex flex-wrap items-baseline gap-x-4 gap-y-1">
        <h1 className="head">Objectives over the last</h1>
        {periods.map(([d, label]) => (
          <button
            key={d}
            aria-pressed={d === days}
            className={d === days ? "border-b-2 border-ink font-semibold" : "quiet"}
            onClick={() => choose(d)}
          >
            {label}
          </button>
        ))}
        <button className="quiet ml-auto text-sm" onClick={() => save(r)}>
          keep as CSV
        </button>
      </div>
      <p className="font-say text-lg">
        {rows.length === 0
          ? "Nothing was protected in that time."
          : late === 0
            ? "Every volume was on target at every place all the time."
            : `${rows.length - late} of ${rows.length} were on target all the time; ` +
              `${late} were late or not there for a while.`}
      </p>
      {rows.length > 0 && (
        <Wide label="Objectives">
          <table className="plain mt-3">
            <thead>
              <tr>
                <th scope="col">Volume</th>
                <th scope="col">At</th>
                <th scope="col">Objective</th>
                <th scope="col" className="w-2/5">
                  {stamp(r.since).slice(0, 10)} to {stamp(r.until).slice(0, 10)}
                </th>
                <th scope="col" className="text-right!">
                  On target
                </th>
                <th scope="col">Oldest it got</th>
                <th scope="col">Gaps</th>
              </tr>
            </thead>
            <tbody>
              {rows.map((x) => (
                <tr key={`${x.volume} ${x.place}`}>
                  <td>{x.volume}</td>
                  <td>{x.place}</td>
                  <td className="whitespace-nowrap">{x.objectiveSeconds ? span(x.objectiveSeconds) : "none"}</td>
                  <td>
                    <Course report={r} row={x} />
                  </td>
                  <td
                    className={
                      "text-right whitespace-nowrap" + (x.onTargetPercent < 99.95 ? " font-semibold text-hand" : "")
                    }
                  >
                    {x.onTargetPercent.toFixed(1)} %
                  </td>
                  <td className="whitespace-nowrap" title={x.worstAt && stamp(x.worstAt)}>
                    {x.worstAt ? span(x.worstAgeSeconds) : "–"}
                  </td>
                  <td>{x.gaps || "–"}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </Wide>
      )}
      <p className="mt-1 text-xs text-faint">
        Line: on target, or paused. Filled: later than the objective. Broken line: no copy was there yet. Measured
        against the objectives as they are now.
      </p>
      {(r.recovery ?? []).length > 0 && (
        <section className="mt-6">
          <h2 className="head border-b border-ink">How long recovery takes</h2>
          <Wide label="Objectives">
            <table className="plain">
              <thead>
                <tr>
                  <th scope="col">Volume</th>
                  <th scope="col">At</th>
                  <th scope="col">Restores tried</th>
                  <th scope="col">All of it in about</th>
                  <th scope="col">Objective</th>
                  <th scope="col" className="hidden sm:table-cell">
                    Last tried
                  </th>
                </tr>
              </thead>
              <tbody>
                {(r.recovery ?? []).map((x) => (
                  <tr key={x.volume + x.place}>
                    <td>{x.volume}</td>
                    <td>{x.place}</td>
                    <td className={x.good < x.trials ? "font-semibold text-hand" : ""}>
                      {x.good} of {x.trials} good
                    </td>
                    <td className={x.objectiveSeconds && x.worstSeconds > x.objectiveSeconds ? "text-hand" : ""}>
                      {span(x.worstSeconds)}
                    </td>
                    <td>{x.objectiveSeconds ? span(x.objectiveSeconds) : "none"}</td>
                    <td className="hidden whitespace-nowrap sm:table-cell">{stamp(x.lastAt)}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </Wide>
        </section>
      )}
      {(r.drills ?? []).length > 0 && (
        <section className="mt-6">
          <h2 className="head border-b border-ink">What drills came to</h2>
          <Wide label="Objectives">
            <table className="plain">
              <thead>
                <tr>
                  <th scope="col">Volume</th>
                  <th scope="col">Runbook</th>
                  <th scope="col">Drills</th>
                  <th scope="col">All up within</th>
                  <th scope="col">Objective</th>
                  <th scope="col">Oldest state</th>
                  <th scope="col">Objective</th>
                  <th scope="col" className="hidden sm:table-cell">
                    Last one
                  </th>
                </tr>
              </thead>
              <tbody>
                {(r.drills ?? []).map((x) => (
                  <tr key={x.volume + x.runbook}>
                    <td>{x.volume}</td>
                    <td>{x.runbook}</td>
                    <td className={x.good < x.drills ? "font-semibold text-hand" : ""}>
                      {x.good} of {x.drills} good
                    </td>
                    <td className={over(x.worstTimeSeconds, x.timeObjectiveSeconds)}>{took(x.worstTimeSeconds)}</td>
                    <td>{x.timeObjectiveSeconds ? span(x.timeObjectiveSeconds) : "none"}</td>
                    <td className={over(x.worstLossSeconds, x.lossObjectiveSeconds)}>{took(x.worstLossSeconds)}</td>
                    <td>{x.lossObjectiveSeconds ? span(x.lossObjectiveSeconds) : "none"}</td>
                    <td className="hidden whitespace-nowrap sm:table-cell">{stamp(x.lastAt)}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </Wide>
        </section>
      )}
      {(r.gaps ?? []).length > 0 && (
        <section className="mt-6">
          <h2 className="head border-b border-ink">Missed due times</h2>
          <div className="max-h-72 overflow-y-auto">
            <table className="plain">
              <tbody>
                {(r.gaps ?? [])
                  .toReversed()
                  .slice(0, 200)
                  .map((g) => (
                    <tr key={g.volume + g.due}>
                      <td className="font-mono whitespace-nowrap">{stamp(g.due)}</td>
                      <td>{g.volume}</td>
                      <td className="text-faint">{g.cause}</td>
                    </tr>
                  ))}
              </tbody>
            </table>
          </div>
        </section>
      )}
      <ByCommand
        lines={[`candid report objectives --since -${days}d`, `candid report objectives --since -${days}d --csv FILE`]}
      />
    </>
  );
}

/** How one volume fared at one place over the period. */
function Course({ report, row }: { report: Report; row: Row }) {
  const from = Date.parse(report.since),
    to = Date.parse(report.until);
  const x = (at: number) => (100 * (Math.max(at, from) - from)) / (to - from);
  const known = row.onTargetSeconds + row.lateSeconds + row.pausedSeconds;
  const began = to - known * 1000;
  const late = (report.late ?? []).filter((l) => l.volume === row.volume && l.place === row.place);
  return (
    <svg
      width="100%"
      height="16"
      role="img"
      aria-label={late.length === 0 ? "never late" : `late ${late.length} times`}
    >
      {began > from + 1000 && (
        <line x1="0%" x2={`${x(began)}%`} y1="8" y2="8" stroke="var(--faint)" strokeDasharray="2 4" />
      )}
      <line x1={`${x(began)}%`} x2="100%" y1="8" y2="8" stroke="var(--ink)" strokeWidth="1.5" />
      {late.map((l) => (
        <rect
          key={l.from}
          x={`${x(Date.parse(l.from))}%`}
          width={`${Math.max(0.3, x(Date.parse(l.to)) - x(Date.parse(l.from)))}%`}
          y="2"
          height="12"
          fill="var(--hand)"
        >
          <title>{`late from ${stamp(l.from)} ${l.open ? "and still" : `to ${stamp(l.to)}`}`}</title>
        </rect>
      ))}
    </svg>
  );
}

function over(measured: number, objective?: number): string {
  return objective && measured > objective ? "font-semibold text-hand" : "";
}

function save(r: Report) {
  saveTable(`${r.site}-objectives.csv`, [
    [
      ..."site volume place since until objective_seconds on_target_seconds late_seconds".split(" "),
      ..."unprotected_seconds paused_seconds on_target_percent late_count gaps worst_age_seconds worst_at".split(" "),
      ..."drills drills_good drill_loss_seconds drill_time_seconds".split(" "),
    ],
    ...(r.rows ?? []).map((x) => {
      const drills = (r.drills ?? []).filter((d) => d.volume === x.volume && d.place === x.place);
      return [
        r.site,
        x.volume,
        x.place,
        r.since,
        r.until,
        x.objectiveSeconds,
        x.onTargetSeconds,
        x.lateSeconds,
        x.unprotectedSeconds,
        x.pausedSeconds,
        x.onTargetPercent.toFixed(4),
        x.lateCount,
        x.gaps,
        x.worstAgeSeconds,
        x.worstAt,
        drills.reduce((n, d) => n + d.drills, 0),
        drills.reduce((n, d) => n + d.good, 0),
        Math.max(0, ...drills.map((d) => d.worstLossSeconds)),
        Math.max(0, ...drills.map((d) => d.worstTimeSeconds)),
      ];
    }),
  ]);
}
