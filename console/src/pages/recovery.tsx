import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";

import { api, once, type RestoreResult, told } from "../api/client";
import { Pick } from "../parts/pick";
import { ByCommand, Field, Progress, Sheet, State, Trouble, Waiting } from "../parts/ui";
import { stamp } from "../parts/times";
import { ago, word } from "../parts/words";
import { Clones } from "./clones";
import { Find } from "./find";
import { FindAll } from "./findall";
import { Recipes, Trials } from "./recipes";
import { Moving } from "./runbooks";
import { UndoButton } from "./undo";

/** Where to come when something is missing. */
export function Recovery({ site }: { site: string }) {
  const [params, setParams] = useSearchParams();
  const volumes = useQuery({ queryKey: ["volumes"], queryFn: () => told(api.GET("/volumes")) });
  const all = volumes.data ?? [];
  const name = params.get("volume") ?? (all.length > 1 ? "" : (all[0]?.name ?? ""));
  const volume = all.find((v) => v.name === name);
  return (
    <>
      <h1 className="head my-5">Recovery</h1>
      <Trouble error={volumes.error} />
      {volumes.isPending && <Waiting what="the volumes" />}
      {all.length === 0 && !volumes.isPending && (
        <p className="text-sm text-faint">There is nothing to recover from yet: add a volume and take a snapshot.</p>
      )}
      {all.length > 0 && (
        <section aria-labelledby="missing">
          <div className="flex flex-wrap items-baseline gap-3">
            <h2 id="missing" className="font-say text-xl">
              What is missing?
            </h2>
            <span className="inline-flex items-baseline gap-2 text-sm">
              in
              <Pick
                label="In which volume"
                value={name}
                names={all.map((v) => v.name)}
                none={all.length > 1 ? "all volumes" : undefined}
                pick={(v) =>
                  setParams(
                    (old) => {
                      const n = new URLSearchParams(old);
                      if (v) n.set("volume", v);
                      else n.delete("volume");
                      return n;
                    },
                    { replace: true },
                  )
                }
              />
            </span>
            {volume && (
              <Link className="quiet ml-auto text-sm" to={`/volumes/${encodeURIComponent(name)}`}>
                move through its time instead
              </Link>
            )}
          </div>
          {volume ? (
            <Find key={`${name} ${params.get("find")}`} volume={name} inPlace={volume.protected} />
          ) : (
            <FindAll key={params.get("find")} />
          )}
        </section>
      )}
      <Restores />
      <Moving site={site} />
      <Clones volumes={all.map((v) => v.name)} />
      <Recipes volumes={all.map((v) => v.name)} />
      <Trials mayTry={all.length > 0} />
      <Mounts volumes={all.map((v) => v.name)} />
      <ByCommand
        lines={[
          `candid find ${name && `${word(name)} `}PATTERN --deleted`,
          `candid restore ${word(name || "VOLUME")} PATH --at WHEN --in-place`,
          "candid undo RUN",
          `candid mount ${word(name || "VOLUME")} DIR`,
          `candid clone create NAME ${word(name || "VOLUME")} DIR`,
          "candid recipe save NAME VOLUME --to DIR --when CADENCE",
          "candid trial run",
          "candid runbook check NAME",
          "candid failover NAME --planned",
          "candid failback NAME",
        ]}
      />
    </>
  );
}

/** Restores of late, each in place with its way back. */
function Restores() {
  const runs = useQuery({
    queryKey: ["runs", "restores"],
    queryFn: () => told(api.GET("/runs", { params: { query: { kind: "restore", limit: 50 } } })),
  });
  const all = (runs.data?.items ?? []).filter((r) => !(r.result as RestoreResult | undefined)?.recipe).slice(0, 10);
  return (
    <section className="my-8">
      <h2 className="head border-b border-ink">Brought back of late</h2>
      <Trouble error={runs.error} />
      {all.length === 0 && !runs.isPending && <p className="py-2 text-sm text-faint">Nothing yet.</p>}
      {all.map((r) => (
        <div key={r.id} className="flex flex-wrap items-baseline gap-x-4 border-b border-rule py-2 text-sm">
          <Link className="quiet font-semibold" to={`/runs/${r.id}`}>
            {r.subject}
          </Link>
          <span className="text-faint">{stamp(r.queued)}</span>
          <State word={r.state} />
          {r.ended ? (
            <span className="min-w-0 grow basis-96">{r.outcome}</span>
          ) : (
            <span className="grow">
              <Progress run={r} />
            </span>
          )}
          <UndoButton run={r} />
        </div>
      ))}
    </section>
  );
}

function Mounts({ volumes }: { volumes: string[] }) {
  const queries = useQueryClient();
  const list = useQuery({ queryKey: ["mounts"], queryFn: () => told(api.GET("/mounts")) });
  const [adding, setAdding] = useState(false);
  const [volume, setVolume] = useState("");
  const [dir, setDir] = useState("");
  const again = () => void queries.invalidateQueries({ queryKey: ["mounts"] });
  const add = useMutation({
    mutationFn: () => told(api.POST("/mounts", { body: { volume: volume || volumes[0]!, dir }, headers: once() })),
    onSuccess: () => {
      setAdding(false);
      again();
    },
  });
  const end = useMutation({
    mutationFn: (d: string) => told(api.DELETE("/mounts", { params: { query: { dir: d } }, headers: once() })),
    onSuccess: again,
  });
  return (
    <section className="my-8">
      <h2 className="head border-b border-ink">Without copying</h2>
      <p className="py-2 text-sm">
        Any file manager opens the snapshots by WebDAV at{" "}
        <code className="bg-sea px-1 font-mono">{location.origin}/dav/</code>: your name and password, or any name and a
        token. On this site's host they can be a filesystem, also for Samba's previous versions.
      </p>
      <Trouble error={list.error ?? end.error} />
      {(list.data ?? []).map((m) => (
        <div key={m.dir} className="flex flex-wrap items-baseline gap-4 border-b border-rule py-1.5 text-sm">
          <span className="font-mono">{m.dir}</span>
          <span>{m.volume}</span>
          <span className="text-faint">
            since {stamp(m.since)}, {ago(m.since)}
          </span>
          <button className="quiet ml-auto" onClick={() => end.mutate(m.dir)} disabled={end.isPending}>
            take away
          </button>
        </div>
      ))}
      {volumes.length > 0 && (
        <button className="press mt-3" onClick={() => setAdding(true)}>
          Show a volume's snapshots as a filesystem
        </button>
      )}
      <Sheet title="Snapshots as a filesystem" open={adding} close={() => setAdding(false)}>
        <Field label="Volume">
          <Pick label="Volume" value={volume || volumes[0]} names={volumes} pick={setVolume} />
        </Field>
        <Field label="Directory" help="An empty directory of this site's host, below one of its roots.">
          <input className="field w-full font-mono" value={dir} onChange={(e) => setDir(e.target.value)} />
        </Field>
        <Trouble error={add.error} />
        <div className="mt-3 flex gap-3">
          <button className="press" onClick={() => add.mutate()} disabled={add.isPending || !dir}>
            Show them there
          </button>
          <button className="quiet" onClick={() => setAdding(false)}>
            Not now
          </button>
        </div>
      </Sheet>
    </section>
  );
}
