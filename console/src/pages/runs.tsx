import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";

import { api, once, told } from "../api/client";
import { ByCommand, Progress, State, Trouble, Waiting } from "../parts/ui";
import { useAddress } from "../parts/address";
import { useTyped } from "../parts/typed";
import { stamp } from "../parts/times";
import { ago } from "../parts/words";
import { Lifetimes } from "./lifetimes";
import { UndoButton } from "./undo";
import { Wide } from "../parts/wide";

export function Runs() {
  const [get, set] = useAddress();
  const of = get("of");
  const list = useQuery({
    queryKey: ["runs"],
    queryFn: () => told(api.GET("/runs", { params: { query: { limit: 200 } } })),
  });
  const [sheet, setSheet] = useState(false);
  const [typed, setTyped] = useTyped(of, (v) => set("of", v));
  if (list.isPending) return <Waiting what="runs" />;
  if (list.error) return <Trouble error={list.error} />;
  const all = (list.data.items ?? []).filter((r) => `${r.kind} ${r.subject} ${r.state}`.includes(of));
  const now = all.filter((r) => !r.ended);
  const past = all.filter((r) => r.ended);
  return (
    <>
      <div className="my-5 flex flex-wrap items-baseline gap-4">
        <h1 className="head">Runs</h1>
        <input
          className="field"
          aria-label="Filter"
          placeholder="filter by kind, subject, state"
          value={typed}
          onChange={(e) => setTyped(e.target.value)}
        />
        <button className="quiet ml-auto text-sm" onClick={() => setSheet(true)}>
          how long records stay
        </button>
      </div>
      {sheet && <Lifetimes close={() => setSheet(false)} />}
      {now.map((r) => (
        <div key={r.id} className="my-3 border-t border-ink pt-2">
          <Link className="quiet font-semibold" to={`/runs/${r.id}`}>
            {r.kind} of {r.subject}
          </Link>
          <Progress run={r} />
        </div>
      ))}
      <Wide label="Runs">
        <table className="plain stack">
          <thead>
            <tr>
              <th scope="col">Run</th>
              <th scope="col">Ended</th>
              <th scope="col">What</th>
              <th scope="col">State</th>
              <th scope="col">Outcome</th>
            </tr>
          </thead>
          <tbody>
            {past.map((r) => (
              <tr key={r.id}>
                <td>
                  <Link className="quiet" to={`/runs/${r.id}`}>
                    {r.id}
                  </Link>
                </td>
                <td className="font-mono whitespace-nowrap" title={ago(r.ended!)}>
                  {stamp(r.ended!)}
                </td>
                <td className="whitespace-nowrap">
                  {r.kind} of {r.subject}
                </td>
                <td>
                  <State word={r.state} />
                </td>
                <td>{r.outcome}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </Wide>
      {all.length === 0 && (
        <p className="text-sm text-faint">{of ? "No run matches the filter." : "Nothing was run yet."}</p>
      )}
      <ByCommand lines={["candid run list", "candid run follow ID", "candid run lifetimes"]} />
    </>
  );
}

export function RunPage() {
  const id = Number(useParams().id);
  const run = useQuery({
    queryKey: ["run", id],
    queryFn: () => told(api.GET("/runs/{id}", { params: { path: { id } } })),
    refetchInterval: (q) => (q.state.data?.ended ? false : 2000),
  });
  const cancel = useMutation({
    mutationFn: () => told(api.POST("/runs/{id}/cancel", { params: { path: { id } }, headers: once() })),
  });
  if (run.isPending) return <Waiting what={`run ${id}`} />;
  if (run.error) return <Trouble error={run.error} />;
  const r = run.data;
  return (
    <>
      <div className="my-5 flex flex-wrap items-baseline gap-4">
        <h1 className="head">
          Run {r.id}: {r.kind} of {r.subject}
        </h1>
        <State word={r.state} />
        {!r.ended && (
          <button className="press press-hand ml-auto" onClick={() => cancel.mutate()} disabled={cancel.isPending}>
            End it
          </button>
        )}
        <span className="ml-auto">
          <UndoButton run={r} />
        </span>
      </div>
      <Trouble error={cancel.error} />
      {r.ended ? <p className="font-say text-lg">{r.outcome}</p> : <Progress run={r} />}
      <p className="my-3 text-sm text-faint">
        Asked for by {r.askedBy}, {stamp(r.queued, true)}
        {r.began && `; began ${stamp(r.began, true)}`}
        {r.ended && `; ended ${stamp(r.ended, true)}`}
      </p>
      {(r.log ?? []).length > 0 && (
        <section>
          <h2 className="head border-b border-ink">Log</h2>
          <ol className="font-mono text-xs">
            {(r.log ?? []).map((l, i) => (
              <li key={i} className="border-b border-rule py-1">
                <span className="mr-3 text-faint">{stamp(l.at, true)}</span>
                {l.text}
              </li>
            ))}
          </ol>
        </section>
      )}
      <ByCommand lines={[`candid run show ${r.id}`, r.ended ? "candid run list" : `candid run follow ${r.id}`]} />
    </>
  );
}
