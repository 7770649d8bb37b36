import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";

import { api, once, type Schemas, told } from "../api/client";
import { saveTable } from "../parts/csv";
import { ByCommand, Command, Field, Sheet, State, Trouble, Waiting } from "../parts/ui";
import { ofWall, stamp } from "../parts/times";
import { instant, span } from "../parts/words";
import { Steps, took } from "./steps";
import { Wide } from "../parts/wide";

type Drill = Schemas["Failover"];

/** The report of a drill, also while it goes on. */
export function DrillPage() {
  const { id = "" } = useParams();
  const queries = useQueryClient();
  const params = { path: { name: id } };
  const query = useQuery({
    queryKey: ["drills", id],
    queryFn: () => told(api.GET("/drills/{name}", { params })),
    refetchInterval: (q) => (["running", "waiting"].includes(q.state.data?.state ?? "") ? 1000 : false),
  });
  const again = () => void queries.invalidateQueries({ queryKey: ["drills"] });
  const answer = useMutation({
    mutationFn: () => told(api.POST("/failovers/{name}/answer", { params, headers: once() })),
    onSettled: again,
  });
  const end = useMutation({
    mutationFn: () => told(api.POST("/drills/{name}/end", { params, headers: once() })),
    onSettled: again,
  });
  const f = query.data;
  if (!f?.drill) return query.error ? <Trouble error={query.error} /> : <Waiting what="the drill" />;
  const d = f.drill;
  const open = ["running", "waiting", "up", "stopped"].includes(f.state);
  return (
    <>
      <p className="mt-5 text-sm print:hidden">
        <Link className="quiet" to="/recovery">
          Recovery
        </Link>
      </p>
      <div className="flex flex-wrap items-baseline gap-4">
        <h1 className="head mb-3">{f.runbook}: drill</h1>
        <button className="quiet ml-auto py-1 text-sm print:hidden" onClick={() => window.print()}>
          print
        </button>
        <button className="quiet py-1 text-sm print:hidden" onClick={() => save(f)}>
          keep as CSV
        </button>
      </div>
      <p className="font-say text-2xl" aria-live="polite">
        {f.sentence}
      </p>
      <p className="my-2 flex flex-wrap items-baseline gap-x-4 text-sm">
        <State word={f.state} />
        <span className="text-faint">
          {stamp(f.began)}, version {d.version} of the runbook, {d.cadence ? "by its cadence" : `asked by ${f.askedBy}`}
          {d.at && `, as of ${stamp(d.at)}`}
        </span>
      </p>
      <Trouble error={answer.error ?? end.error} />
      {open && (
        <div className="my-3 flex flex-wrap gap-4 print:hidden">
          {f.state === "waiting" && (
            <button className="press" disabled={answer.isPending} onClick={() => answer.mutate()}>
              That is done: go on
            </button>
          )}
          <button
            className={f.state === "up" ? "press" : "quiet py-1"}
            disabled={end.isPending}
            onClick={() => end.mutate()}
          >
            {f.state === "up" ? "End it now" : "take it away"}
          </button>
          {f.command && <Command text={f.command} />}
        </div>
      )}
      <table className="plain my-4 max-w-xl">
        <thead>
          <tr>
            <th scope="col">Measured</th>
            <th scope="col">Drill</th>
            <th scope="col">Objective</th>
          </tr>
        </thead>
        <tbody>
          <tr>
            <td>until all was up</td>
            <td className={d.withinTime ? "" : "font-semibold text-hand"}>{d.up ? took(d.timeSeconds) : "never"}</td>
            <td>{d.timeObjectiveSeconds ? span(d.timeObjectiveSeconds) : "none"}</td>
          </tr>
          <tr>
            <td>age of the oldest state</td>
            <td className={d.withinLoss ? "" : "font-semibold text-hand"}>{took(d.lossSeconds)}</td>
            <td>{d.lossObjectiveSeconds ? span(d.lossObjectiveSeconds) : "none"}</td>
          </tr>
        </tbody>
      </table>
      <Steps of={f} />
      <Wide label="Drill">
        <table className="plain my-4">
          <thead>
            <tr>
              <th scope="col">Volume</th>
              <th scope="col">As of</th>
              <th scope="col">Age</th>
              <th scope="col">Where</th>
            </tr>
          </thead>
          <tbody>
            {(f.volumes ?? []).map((v) => (
              <tr key={v.volume}>
                <td>{v.volume}</td>
                <td className="whitespace-nowrap">{v.known ? stamp(v.known) : "–"}</td>
                <td className="whitespace-nowrap">{took(v.lossSeconds)}</td>
                <td className={d.gone ? "text-faint" : "font-mono text-xs break-all"}>
                  {d.gone ? "taken away" : v.place || "–"}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </Wide>
      {d.network === "host" && d.dir && (
        <p className="text-sm">It had the network of this host: its checks may have met what runs there.</p>
      )}
      <ByCommand lines={[`candid drill show ${f.id}`, `candid drill show ${f.id} --csv FILE`]} />
    </>
  );
}

function save(f: Drill) {
  const d = f.drill!;
  saveTable(`${f.runbook}-drill-${f.id}.csv`, [
    ["what", "name", "state", "at", "seconds", "objective_seconds", "place", "said"],
    ["drill", f.runbook, f.state, f.began, "", "", d.dir ?? "", f.sentence],
    ["time", f.runbook, "", d.up ?? "", d.timeSeconds, d.timeObjectiveSeconds ?? "", "", ""],
    ["loss", f.runbook, "", d.at ?? "", d.lossSeconds, d.lossObjectiveSeconds ?? "", "", ""],
    ...(f.volumes ?? []).map((v) => ["volume", v.volume, "", v.taken ?? "", v.lossSeconds, "", v.place ?? "", v.from]),
    ...(f.steps ?? []).map((s) => ["step", s.text, s.state, s.began ?? "", s.seconds ?? 0, "", "", s.said ?? ""]),
  ]);
}

/** Rehearsing a runbook: as of when, and for how long it stays up. */
export function Rehearse({ name, close }: { name: string; close: () => void }) {
  const go = useNavigate();
  const [at, setAt] = useState("");
  const [minutes, setMinutes] = useState("");
  const start = useMutation({
    mutationFn: () =>
      told(
        api.POST("/runbooks/{name}/drill", {
          params: { path: { name } },
          body: {
            ...(at && { at: ofWall(Date.parse(`${at}Z`)).toISOString() }),
            ...(minutes && { keepSeconds: Math.round(Number(minutes) * 60) }),
          },
          headers: once(),
        }),
      ),
    onSuccess: (f) => void go(`/drills/${f.id}`),
  });
  return (
    <Sheet title={`Rehearse ${name}`} open close={close}>
      <p className="my-2">
        All of it is brought up as clones, in directories, exports and a network of their own. Production, copies and
        routes stay as they are, and nothing of the drill is left.
      </p>
      <Field label="As of" help="The newest states when nothing is chosen.">
        <input className="field w-full" type="datetime-local" value={at} onChange={(e) => setAt(e.target.value)} />
      </Field>
      <Field label="It stays up for, in minutes" help="As the runbook says when nothing is given; 0: not at all.">
        <input
          className="field w-full"
          type="number"
          min="0"
          max="10080"
          value={minutes}
          onChange={(e) => setMinutes(e.target.value)}
        />
      </Field>
      <Trouble error={start.error} />
      <div className="flex gap-4">
        <button className="press" disabled={start.isPending} onClick={() => start.mutate()}>
          Rehearse
        </button>
        <button className="quiet" onClick={close}>
          leave it
        </button>
      </div>
      <p className="mt-3 text-sm text-faint">
        <Command
          text={
            `candid drill start ${name}` +
            (at && ` --at ${instant(ofWall(Date.parse(`${at}Z`)))}`) +
            (minutes && ` --keep ${Number(minutes) ? `"${minutes} minutes"` : "none"}`)
          }
        />
      </p>
    </Sheet>
  );
}
