import { useInfiniteQuery, useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useParams } from "react-router";

import { api, once, type Snapshot, told } from "../api/client";
import { ByCommand, State, Trouble, Waiting } from "../parts/ui";
import { TallRuler } from "../parts/ruler";
import { useTime } from "../parts/time";
import { stamp } from "../parts/times";
import { ago, instant, word } from "../parts/words";
import { ChangeVolume } from "./changevolume";
import { DiskPanel } from "./disk";
import { Contents } from "./files";
import { Found } from "./found";
import { ChangeSheet, TakeSheet } from "./noted";
import { EndSheet, StandbySheet } from "./volumeend";
import { StandingElsewhere } from "./standing";
import { Doubt, KeepSheet, Offered, OutOfTurn, PauseButton, Why } from "./why";

export function VolumePage() {
  const { name = "" } = useParams();
  const volume = useQuery({
    queryKey: ["volume", name],
    queryFn: () => told(api.GET("/volumes/{name}", { params: { path: { name } } })),
    refetchInterval: 60_000,
  });
  const time = useTime();
  const go = useNavigate();
  const [sheet, setSheet] = useState<"" | "take" | "change" | "standby" | "end">("");
  const at = time.moment ? new Date(time.moment).toISOString() : "latest";
  const take = useMutation({
    mutationFn: () =>
      told(api.POST("/volumes/{name}/snapshots", { params: { path: { name } }, body: {}, headers: once() })),
    onSuccess: (r) => void go(`/runs/${r.id}`),
  });
  if (volume.isPending) return <Waiting what={name} />;
  if (volume.error) return <Trouble error={volume.error} />;
  const v = volume.data;
  const disk = v.kind === "block";
  const when = time.moment ? instant(new Date(time.moment)) : "latest";
  return (
    <>
      <div className="my-5 flex flex-wrap items-baseline gap-x-4 gap-y-1">
        <h1 className="font-say text-2xl font-semibold">{v.name}</h1>
        <State word={v.protection} />
        <p className="font-say text-lg">{v.sentence}</p>
        {v.protected && (
          <span className="ml-auto flex flex-wrap items-baseline gap-4">
            {v.origin === v.places?.[0]?.place && <PauseButton volume={name} paused={!!v.pausedSince} />}
            {!disk && v.active === v.places?.[0]?.place && (
              <>
                <button className="quiet" onClick={() => setSheet("change")}>
                  change
                </button>
                <button className="quiet" onClick={() => setSheet("end")}>
                  stop protecting
                </button>
              </>
            )}
            <button className="press" onClick={() => take.mutate()} disabled={take.isPending}>
              Take a snapshot now
            </button>
            <button className="quiet" onClick={() => setSheet("take")}>
              with a note …
            </button>
          </span>
        )}
      </div>
      <Trouble error={take.error} />
      {!disk && v.active !== v.places?.[0]?.place && (
        <p className="my-2 text-sm">
          <button className="quiet" onClick={() => setSheet("standby")}>
            {v.standby ? "change how it is laid out as a directory" : "lay it out as a directory"}
          </button>
        </p>
      )}
      {sheet === "standby" && <StandbySheet volume={v} close={() => setSheet("")} />}
      {sheet === "end" && <EndSheet volume={v} close={() => setSheet("")} />}
      {sheet === "take" && <TakeSheet volume={name} close={() => setSheet("")} />}
      {sheet === "change" && <ChangeVolume volume={v} close={() => setSheet("")} />}
      {(v.offered ?? []).length > 0 && <Offered volume={name} less={v.offered ?? []} />}
      {v.standby && (
        <p className={`my-2 text-sm ${v.standby.error ? "border-l-4 border-hand pl-3" : "text-faint"}`}>
          Standby: {v.standby.sentence}
        </p>
      )}
      {v.doubt && <Doubt volume={name} why={v.doubt} />}
      {!!v.outOfTurn && <OutOfTurn volume={name} count={v.outOfTurn} />}
      <TallRuler volume={name} />
      <div className="grid grid-cols-1 gap-x-10 lg:grid-cols-[1fr_320px]">
        {disk ? (
          <DiskPanel volume={name} at={at} served={v.protected} />
        ) : (
          <Contents volume={name} at={at} inPlace={v.protected} />
        )}
        <aside>
          <Facts label="Protection">
            <Fact k={disk ? "image" : "path"} v={v.path} mono />
            <Fact k="taken at" v={v.origin} />
            <Fact k="policies" v={(v.policies ?? []).join(", ") || "none"} />
            <Fact
              k="labels"
              v={
                Object.entries(v.labels ?? {})
                  .map((l) => l.join("="))
                  .join(" ") || "none"
              }
            />
            {v.group && <Fact k="group" v={`${v.group}: taken with its other volumes, as one set`} />}
            {v.following && <Fact k="changes" v={`found ${v.following}`} />}
            <Fact k="snapshots" v={`${v.snapshots} kept, ${v.inGrace} in grace`} />
            <Fact k="next due" v={v.nextDue ? `${stamp(v.nextDue)} (${ago(v.nextDue)})` : "nothing"} />
            {(v.places ?? []).map((p) => (
              <Fact
                key={p.place}
                k={`at ${p.place}`}
                v={
                  `${p.state}; newest state ${p.newest ? ago(p.newest) : "none"}` +
                  (p.backlog ? `; ${p.backlog} still to carry` : "")
                }
              />
            ))}
          </Facts>
          {!disk && <StandingElsewhere volume={name} at={at} inPlace={v.protected} />}
          {v.protected && !disk && <Found volume={name} />}
          <Why volume={name} at={time.moment ? at : undefined} />
          <Snapshots volume={name} />
        </aside>
      </div>
      <ByCommand
        lines={
          disk
            ? [
                `candid disk show ${word(name)}`,
                `candid restore ${word(name)} --at ${when} --to FILE`,
                `candid restore ${word(name)} --at ${when} --in-place --dry-run`,
                `candid clone create NAME ${word(name)} --at ${when}`,
              ]
            : [
                time.moment ? `candid explain ${word(name)} --at ${when}` : `candid explain ${word(name)}`,
                `candid browse ${word(name)} --at ${when}`,
                `candid find ${word(name)} PATTERN`,
                `candid compare ${word(name)} --from ${time.moment ? when : "-1d"}`,
                `candid restore ${word(name)} PATH --at ${when} --in-place --dry-run`,
              ]
        }
      />
    </>
  );
}

function Facts({ label, children }: { label: string; children: React.ReactNode }) {
  return (
    <section className="my-4">
      <h2 className="head border-b border-ink">{label}</h2>
      <dl className="text-sm">{children}</dl>
    </section>
  );
}

function Fact({ k, v, mono }: { k: string; v: string; mono?: boolean }) {
  return (
    <div className="flex gap-3 border-b border-rule py-1">
      <dt className="w-24 shrink-0 text-faint">{k}</dt>
      <dd className={`min-w-0 break-words ${mono ? "font-mono text-xs leading-5" : ""}`}>{v}</dd>
    </div>
  );
}

function Snapshots({ volume }: { volume: string }) {
  const time = useTime();
  const list = useInfiniteQuery({
    queryKey: ["snapshots", volume],
    queryFn: ({ pageParam }) =>
      told(
        api.GET("/volumes/{name}/snapshots", {
          params: { path: { name: volume }, query: { limit: 25, after: pageParam } },
        }),
      ),
    initialPageParam: "",
    getNextPageParam: (last) => last.next || undefined,
  });
  const act = useMutation({
    mutationFn: (s: Snapshot) =>
      s.state === "kept"
        ? told(api.DELETE("/snapshots/{id}", { params: { path: { id: s.id } }, headers: once() }))
        : told(api.POST("/snapshots/{id}/recall", { params: { path: { id: s.id } }, headers: once() })),
  });
  const [keeping, setKeeping] = useState<Snapshot | null>(null);
  const [changing, setChanging] = useState<Snapshot | null>(null);
  const letGo = useMutation({
    mutationFn: (s: Snapshot) =>
      told(api.POST("/snapshots/{id}/let-go", { params: { path: { id: s.id } }, headers: once() })),
  });
  const all = list.data?.pages.flatMap((p) => p.items ?? []) ?? [];
  return (
    <section className="my-6">
      <h2 className="head border-b border-ink">Snapshots</h2>
      {changing && <ChangeSheet snapshot={changing} close={() => setChanging(null)} />}
      {keeping && <KeepSheet snapshot={keeping} close={() => setKeeping(null)} />}
      <Trouble error={list.error ?? act.error ?? letGo.error} />
      {!list.isPending && all.length === 0 && <p className="py-2 text-sm text-faint">None yet.</p>}
      <ol className="text-sm">
        {all.map((s) => (
          <li key={s.id} className="border-b border-rule py-1.5">
            <div className="flex items-baseline gap-2">
              <button
                className={
                  "font-mono cursor-pointer " + (time.moment === Date.parse(s.taken) ? "font-semibold" : "quiet")
                }
                onClick={() => time.choose(Math.ceil(Date.parse(s.taken) / 1000) * 1000)}
              >
                {stamp(s.taken)}
              </button>
              {s.cause !== "scheduled" && <span className="text-faint">{s.cause}</span>}
              {s.consistency !== "spread" && <span className="text-faint">{s.consistency}</span>}
              {s.group && <span className="text-faint">set of {s.group}</span>}
              {s.remarkCount > 0 && <span className="text-hand">{s.remarkCount} remarks</span>}
              <span className="ml-auto flex gap-3 text-xs text-faint">
                <button className="quiet" onClick={() => setChanging(s)}>
                  note
                </button>
                {s.keep ? (
                  <button className="quiet" onClick={() => letGo.mutate(s)}>
                    unmark
                  </button>
                ) : (
                  <button className="quiet" onClick={() => setKeeping(s)}>
                    keep
                  </button>
                )}
                {!s.keep && (
                  <button className="quiet" onClick={() => act.mutate(s)}>
                    {s.state === "kept" ? "remove" : "recall"}
                  </button>
                )}
              </span>
            </div>
            <p className="text-xs text-faint">
              {s.note && <q className="text-ink">{s.note}</q>}{" "}
              {Object.entries(s.labels ?? {}).map((l) => (
                <span key={l[0]} className="mr-1 font-mono">
                  {l.join("=")}
                </span>
              ))}
              {s.state === "kept" ? (s.reasons ?? []).join("; ") : `in grace until ${stamp(s.graceUntil!)}: ${s.letGo}`}
              {s.state === "kept" && s.ends && `, until about ${stamp(s.ends)}`}
            </p>
          </li>
        ))}
      </ol>
      {list.hasNextPage && (
        <button className="press mt-2" onClick={() => void list.fetchNextPage()}>
          Show older
        </button>
      )}
    </section>
  );
}
