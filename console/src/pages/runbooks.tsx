import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";

import { api, once, type Schemas, told } from "../api/client";
import { Editor } from "../parts/editor";
import { Command, Field, Sheet, State, Trouble } from "../parts/ui";
import { stamp } from "../parts/times";
import { size, span } from "../parts/words";
import { Rehearse } from "./drill";
import { took } from "./steps";
import { Wide } from "../parts/wide";

type Failover = Schemas["Failover"];

const blank = `runbook: NAME
at: SITE
bring_up:
  - VOLUME
paths: {}
objectives: {loss: 15 minutes, time: 30 minutes}
`;

/** Moving to this site: its runbooks, what was moved, and what was left behind. */
export function Moving({ site }: { site: string }) {
  const runbooks = useQuery({ queryKey: ["runbooks"], queryFn: () => told(api.GET("/runbooks")) });
  const failovers = useQuery({ queryKey: ["failovers"], queryFn: () => told(api.GET("/failovers")) });
  const drills = useQuery({ queryKey: ["drills"], queryFn: () => told(api.GET("/drills")) });
  const left = useQuery({ queryKey: ["left-behind"], queryFn: () => told(api.GET("/left-behind")) });
  const away = useQuery({ queryKey: ["away"], queryFn: () => told(api.GET("/away")) });
  const [writing, setWriting] = useState<string | undefined>();
  const [rehearsing, setRehearsing] = useState<string | undefined>();
  const [taking, setTaking] = useState<Taking | undefined>();
  const all = runbooks.data ?? [];
  return (
    <section className="my-8" aria-labelledby="moving">
      <div className="flex flex-wrap items-baseline gap-4 border-b border-ink">
        <h2 id="moving" className="head">
          Moving to this site
        </h2>
        <button className="quiet ml-auto text-sm" onClick={() => setWriting(blank.replace("SITE", site))}>
          write a runbook
        </button>
      </div>
      <Trouble error={runbooks.error ?? failovers.error ?? drills.error ?? left.error} />
      {all.length === 0 && !runbooks.isPending && (
        <p className="py-2 text-sm text-faint">
          A runbook says which volumes this site takes over from another, in which order. There is none yet.
        </p>
      )}
      {all.map((b) => (
        <article key={b.name} className="border-b border-rule py-2 text-sm">
          <div className="flex flex-wrap items-baseline gap-x-4">
            <button className="quiet py-1 font-semibold" onClick={() => setWriting(b.body)}>
              {b.name}
            </button>
            <State word={b.readiness?.ready ? "ready" : "not ready"} />
            <span className="text-faint">{(b.volumes ?? []).join(", ")}</span>
            <button className="quiet ml-auto py-1" onClick={() => setRehearsing(b.name)}>
              rehearse …
            </button>
            <button className="quiet py-1" onClick={() => setTaking({ name: b.name, ready: !!b.readiness?.ready })}>
              take over …
            </button>
          </div>
          <details open={!b.readiness?.ready}>
            <summary className="py-1 text-faint">what it needs</summary>
            <ul className="my-1">
              {(b.readiness?.checks ?? [])
                .toSorted((x, y) => Number(x.ok) - Number(y.ok))
                .map((c) => (
                  <li key={c.code + c.about} className="flex flex-wrap gap-x-3">
                    <State word={c.ok ? "yes" : "no"} />
                    <span>{c.text}</span>
                    {!c.ok && c.command && <Command text={c.command} />}
                  </li>
                ))}
            </ul>
          </details>
        </article>
      ))}
      {(away.data ?? []).map((a) => (
        <div
          key={a.runbook + a.site}
          className="flex flex-wrap items-baseline gap-x-4 border-b border-rule py-2 text-sm"
        >
          <span className="font-semibold">{a.runbook}</span>
          <span>
            {(a.volumes ?? []).join(", ")} {(a.volumes ?? []).length === 1 ? "is" : "are"} active at {a.site} since{" "}
            {stamp(a.since)}
          </span>
          <button
            className="quiet ml-auto py-1"
            onClick={() => setTaking({ name: a.runbook, ready: true, home: true })}
          >
            bring home …
          </button>
        </div>
      ))}
      {(failovers.data ?? []).slice(0, 8).map((f) => (
        <div key={f.id} className="flex flex-wrap items-baseline gap-x-4 border-b border-rule py-1.5 text-sm">
          <Link className="quiet font-semibold" to={`/failovers/${f.id}`}>
            {f.runbook}
          </Link>
          <span className="text-faint">
            {f.kind}, {stamp(f.began)}
          </span>
          <State word={f.state} />
          <span className="min-w-0 grow basis-96">{f.sentence}</span>
        </div>
      ))}
      {(drills.data ?? []).slice(0, 6).map((f) => (
        <div key={f.id} className="flex flex-wrap items-baseline gap-x-4 border-b border-rule py-1.5 text-sm">
          <Link className="quiet font-semibold" to={`/drills/${f.id}`}>
            {f.runbook}
          </Link>
          <span className="text-faint">drill, {stamp(f.began)}</span>
          <State word={f.state} />
          <span className="min-w-0 grow basis-96">{f.sentence}</span>
        </div>
      ))}
      {(left.data ?? []).length > 0 && (
        <details className="border-b border-rule py-2 text-sm">
          <summary className="py-1">
            {left.data!.length} {left.data!.length === 1 ? "snapshot" : "snapshots"} left behind when another site took
            over
          </summary>
          {left.data!.map((l) => (
            <p key={l.snapshot} className="my-1">
              <Link className="quiet" to={`/volumes/${encodeURIComponent(l.volume)}?at=${encodeURIComponent(l.taken)}`}>
                {l.volume}
              </Link>{" "}
              as of {stamp(l.taken)}, {size(l.bytes)}; kept until {stamp(l.until)}. {l.why}.{" "}
              <Command text={`candid left-behind compare ${l.snapshot.slice(0, 12)}`} />
            </p>
          ))}
        </details>
      )}
      {writing !== undefined && <Write body={writing} close={() => setWriting(undefined)} />}
      {rehearsing && <Rehearse name={rehearsing} close={() => setRehearsing(undefined)} />}
      {taking && <TakeOver {...taking} close={() => setTaking(undefined)} />}
    </section>
  );
}

/** The document of a runbook. */
function Write({ body, close }: { body: string; close: () => void }) {
  const queries = useQueryClient();
  const [text, setText] = useState(body);
  const put = useMutation({
    mutationFn: () => told(api.PUT("/runbooks", { body: { body: text }, headers: once() })),
    onSuccess: () => {
      void queries.invalidateQueries({ queryKey: ["runbooks"] });
      close();
    },
  });
  return (
    <Sheet title="Runbook" open close={close} wide>
      <p className="mb-2 text-sm text-faint">Volumes, groups, hooks, checks and pauses, in their order.</p>
      <Editor label="Runbook" text={text} change={setText} />
      <Trouble error={put.error} />
      <div className="mt-3 flex gap-4">
        <button className="press" disabled={put.isPending} onClick={() => put.mutate()}>
          Store it
        </button>
        <button className="quiet" onClick={close}>
          leave it
        </button>
      </div>
      <p className="mt-3 text-sm text-faint">
        <Command text="candid runbook put FILE" />
      </p>
    </Sheet>
  );
}

type Taking = { name: string; ready: boolean; home?: boolean };

/** What taking over, or bringing home, would mean, and the act. */
function TakeOver({ name, ready, home, close }: Taking & { close: () => void }) {
  const go = useNavigate();
  const [unplanned, setUnplanned] = useState(false);
  const [anyway, setAnyway] = useState(false);
  const [typed, setTyped] = useState("");
  const path = home ? ("/runbooks/{name}/failback" as const) : ("/runbooks/{name}/failover" as const);
  const params = { path: { name } };
  const would = useQuery({
    queryKey: ["would", name, path, unplanned],
    queryFn: () => told(api.POST(path, { params, body: { unplanned, dryRun: true }, headers: once() })),
    retry: false,
  });
  const take = useMutation({
    mutationFn: () => told(api.POST(path, { params, body: { unplanned, anyway }, headers: once() })),
    onSuccess: (f) => void go(`/failovers/${f.id}`),
  });
  return (
    <Sheet title={home ? `Bring home what went by ${name}` : `Take over by ${name}`} open close={close} wide>
      {!home && (
        <fieldset className="my-3 text-sm">
          <legend className="font-semibold">The other site</legend>
          <label className="mr-6">
            <input type="radio" name="kind" checked={!unplanned} onChange={() => setUnplanned(false)} /> hands over:
            nothing is lost
          </label>
          <label>
            <input type="radio" name="kind" checked={unplanned} onChange={() => setUnplanned(true)} /> is lost, or not
            to be asked
          </label>
        </fieldset>
      )}
      <Trouble error={would.error} />
      {would.data && (
        <>
          <p className="font-say text-lg">{would.data.sentence}</p>
          <Losses of={would.data} />
        </>
      )}
      {!ready && (
        <label className="my-2 block text-sm">
          <input type="checkbox" checked={anyway} onChange={(e) => setAnyway(e.target.checked)} /> although it is not
          ready
        </label>
      )}
      <Field label={`Type ${name} to go on`}>
        <input className="field w-full" value={typed} onChange={(e) => setTyped(e.target.value)} />
      </Field>
      <Trouble error={take.error} />
      <div className="flex gap-4">
        <button
          className="press press-hand"
          disabled={take.isPending || typed !== name || !!would.error}
          onClick={() => take.mutate()}
        >
          {home ? "Bring home" : "Take over"}
        </button>
        <button className="quiet" onClick={close}>
          leave it
        </button>
      </div>
      <p className="mt-3 text-sm text-faint">
        <Command
          text={home ? `candid failback ${name}` : `candid failover ${name} --${unplanned ? "unplanned" : "planned"}`}
        />
      </p>
    </Sheet>
  );
}

/** How long of a volume nothing arrived, and by how much that may be wrong. */
function lost(v: Schemas["FailoverLoss"]): string {
  const doubt = v.doubtSeconds ?? 0;
  if (doubt < 1) return took(v.lossSeconds);
  return v.lossSeconds < 1 ? `perhaps ${span(doubt)}` : `${took(v.lossSeconds)}, perhaps ${span(doubt)} more`;
}

/** From which state each volume goes on, and what that leaves behind. */
export function Losses({ of }: { of: Failover }) {
  return (
    <Wide label="Runbook">
      <table className="my-2 w-full text-left text-sm">
        <thead>
          <tr className="border-b border-ink">
            <th scope="col">volume</th>
            <th scope="col">goes on as of</th>
            <th scope="col">left behind</th>
          </tr>
        </thead>
        <tbody>
          {(of.volumes ?? []).map((v) => (
            <tr key={v.volume} className="border-b border-rule">
              <td className="pr-4">{v.volume}</td>
              <td className="pr-4">{v.known ? stamp(v.known) : "–"}</td>
              <td>{of.kind === "unplanned" ? lost(v) : "nothing"}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </Wide>
  );
}
