import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useParams } from "react-router";

import { api, once, told } from "../api/client";
import { ByCommand, Command, State, Trouble, Waiting } from "../parts/ui";
import { stamp } from "../parts/times";
import { Losses } from "./runbooks";
import { Steps, took } from "./steps";

/** One move of the active side: what is done, what runs, what waits for whom, and what is next. */
export function FailoverPage() {
  const { id = "" } = useParams();
  const queries = useQueryClient();
  const path = { params: { path: { name: id } } };
  const query = useQuery({
    queryKey: ["failovers", id],
    queryFn: () => told(api.GET("/failovers/{name}", path)),
    refetchInterval: (q) => (q.state.data?.state === "running" || q.state.data?.state === "waiting" ? 1000 : false),
  });
  const again = () => void queries.invalidateQueries({ queryKey: ["failovers"] });
  const answer = useMutation({
    mutationFn: () => told(api.POST("/failovers/{name}/answer", { ...path, headers: once() })),
    onSettled: again,
  });
  const cancel = useMutation({
    mutationFn: () => told(api.DELETE("/failovers/{name}", { ...path, headers: once() })),
    onSettled: again,
  });
  const goOn = useMutation({
    mutationFn: (f: { runbook: string; kind: string }) =>
      told(
        api.POST("/runbooks/{name}/failover", {
          params: { path: { name: f.runbook } },
          body: { unplanned: f.kind === "unplanned", anyway: true },
          headers: once(),
        }),
      ),
    onSettled: again,
  });
  const f = query.data;
  if (!f) return query.error ? <Trouble error={query.error} /> : <Waiting what="the failover" />;
  const open = f.state === "running" || f.state === "waiting";
  const moved = (f.steps ?? []).some((s) => s.code === "authority" && s.state === "done");
  return (
    <>
      <p className="mt-5 text-sm">
        <Link className="quiet" to="/recovery">
          Recovery
        </Link>
      </p>
      <h1 className="head mb-3">
        {f.runbook}: {f.kind === "hand-over" ? "handing over" : `${f.kind} failover`}
      </h1>
      <p className="font-say text-2xl" aria-live="polite">
        {f.sentence}
      </p>
      <p className="my-2 flex flex-wrap items-baseline gap-x-4 text-sm">
        <State word={f.state} />
        <span className="text-faint">
          since {stamp(f.began)}
          {f.peer && `, from ${f.peer}`}, asked by {f.askedBy}
        </span>
        {!!f.downSeconds && <strong>nobody served for {took(f.downSeconds)}</strong>}
      </p>
      <Trouble error={answer.error ?? cancel.error ?? goOn.error} />
      <div className="my-3 flex flex-wrap gap-4">
        {f.state === "waiting" && (
          <button className="press" disabled={answer.isPending} onClick={() => answer.mutate()}>
            That is done: go on
          </button>
        )}
        {f.state === "stopped" && (
          <button className="press" disabled={goOn.isPending} onClick={() => goOn.mutate(f)}>
            It is mended: go on
          </button>
        )}
        {open && !moved && (
          <button className="quiet" disabled={cancel.isPending} onClick={() => cancel.mutate()}>
            give it up
          </button>
        )}
        {f.command && <Command text={f.command} />}
      </div>
      <Steps of={f} />
      {(f.volumes ?? []).length > 0 && <Losses of={f} />}
      <ByCommand lines={[`candid failover show ${f.id}`]} />
    </>
  );
}
