import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { api, once, type RestoreAsk, told } from "../api/client";
import { useRun, worked } from "../api/run";
import { Command, Progress, Sheet, Trouble } from "../parts/ui";
import { stamp } from "../parts/times";
import { ago, instant, size, word } from "../parts/words";
import { CloneSheet, keyOf, Since, useRates, Writes } from "./diskparts";
import { UndoButton } from "./undo";
import { Wide } from "../parts/wide";

/** A disk: how it stands, who has it open, and its way back. */
export function DiskPanel({ volume, at, served }: { volume: string; at: string; served: boolean }) {
  const [back, setBack] = useState(false);
  const [cloning, setCloning] = useState(false);
  const queries = useQueryClient();
  const disk = useQuery({
    queryKey: ["disk", volume],
    queryFn: () => told(api.GET("/disks/{name}", { params: { path: { name: volume } } })),
    refetchInterval: 5_000,
  });
  const act = useMutation({
    mutationFn: (what: "open" | "close" | "release") => {
      const params = { path: { name: volume } };
      if (what === "close") return told(api.POST("/disks/{name}/close", { params, body: {}, headers: once() }));
      return told(
        what === "open"
          ? api.POST("/disks/{name}/open", { params, body: {}, headers: once() })
          : api.POST("/disks/{name}/release", { params, headers: once() }),
      );
    },
    onSuccess: () => void queries.invalidateQueries({ queryKey: ["disk", volume] }),
  });
  const fill = useMutation({
    mutationFn: () => told(api.POST("/disks/{name}/fill", { params: { path: { name: volume } }, headers: once() })),
    onSuccess: () => void queries.invalidateQueries({ queryKey: ["disk", volume] }),
  });
  const endFill = useMutation({
    mutationFn: () => told(api.DELETE("/disks/{name}/fill", { params: { path: { name: volume } }, headers: once() })),
    onSuccess: () => void queries.invalidateQueries({ queryKey: ["disk", volume] }),
  });
  const filling = useRun(fill.data?.id);
  const d = disk.data;
  const rates = useRates(d?.clients ?? undefined, disk.dataUpdatedAt);
  const moment = at === "latest" ? "latest" : instant(at);
  if (!served)
    return (
      <section className="my-4">
        <Trouble error={disk.error ?? fill.error ?? endFill.error} />
        {filling.data?.ended && !worked(filling.data) && <p className="text-hand">{filling.data.outcome}</p>}
        <p className="font-say text-lg">
          {disk.data?.sentence ?? "This is a copy of a disk that another site serves."}
        </p>
        {disk.data && disk.data.sizeBytes > 0 && (
          <p className="mt-3 text-sm">
            Clients on this host read its newest state as <Command text={disk.data.address} />
          </p>
        )}
        {disk.data && disk.data.sizeBytes > 0 && (
          <div className="mt-2 text-sm">
            {filling.data && !filling.data.ended ? (
              <Progress run={filling.data} />
            ) : disk.data.image ? (
              <button className="quiet" onClick={() => endFill.mutate()}>
                Have it without an image again
              </button>
            ) : (
              <button className="quiet" onClick={() => fill.mutate()}>
                Give it an image that follows each arrival
              </button>
            )}{" "}
            <Command text={`candid disk fill ${word(volume)}${disk.data.image ? " --end" : ""}`} />
          </div>
        )}
        <p className="mt-2 text-sm">
          Its bytes as of {at === "latest" ? "its newest snapshot" : stamp(at, true)}, in a file:{" "}
          <Command text={`candid restore ${word(volume)} --at ${moment} --to FILE`} />
        </p>
      </section>
    );
  return (
    <section className="my-4" aria-label="Disk">
      <Trouble error={disk.error ?? act.error ?? fill.error} />
      {filling.data?.ended && !worked(filling.data) && <p className="text-hand">{filling.data.outcome}</p>}
      {d && (
        <>
          <p className="font-say text-lg">{d.sentence}</p>
          {d.state !== "missing" && (
            <p className="mt-1 text-sm text-faint">
              {size(d.sizeBytes)} in blocks of {size(d.blockBytes)}; the next snapshot reads {size(d.changedBytes)}.
            </p>
          )}
          {d.state !== "missing" && d.state !== "closed" && (
            <p className="mt-3 text-sm">
              Clients on this host open it as <Command text={d.address} />
            </p>
          )}
          {d.network && (
            <p className="mt-1 text-sm">
              {(d.hosts ?? []).length > 0
                ? `Over the network, at ${d.network}: ${(d.hosts ?? []).join(", ")}. `
                : `No host opens it over the network, at ${d.network}. `}
              <Command text={`candid disk access HOST --disk ${word(volume)}`} />
            </p>
          )}
          {(d.unfilledBytes ?? 0) > 0 && (
            <div className="mt-1 text-sm">
              {d.arrivingFrom
                ? `Not all of it has come from ${d.arrivingFrom} yet.`
                : `Up to ${size(d.unfilledBytes ?? 0)} of it are read from a snapshot.`}{" "}
              {filling.data && !filling.data.ended ? (
                <Progress run={filling.data} />
              ) : (
                <button className="quiet" onClick={() => fill.mutate()}>
                  {d.arrivingFrom ? "Bring the rest" : "Bring them into its image"}
                </button>
              )}{" "}
              <Command text={`candid disk fill ${word(volume)}`} />
            </div>
          )}
          {d.shared && (
            <p className="mt-1 text-sm">
              Several clients may write to it at once. One alone:{" "}
              <Command text={`candid disk open ${word(volume)} --shared=false`} />
            </p>
          )}
          <div className="my-4 flex flex-wrap gap-3">
            <button className="press" onClick={() => setBack(true)}>
              Go back to {at === "latest" ? "its newest snapshot" : stamp(at, true)} …
            </button>
            <button className="quiet" onClick={() => setCloning(true)}>
              Clone it as of then …
            </button>
            {d.suspect && d.state !== "failed" && (
              <button className="quiet" onClick={() => act.mutate("open")}>
                What is there is right
              </button>
            )}
            {d.state === "held" && (
              <button className="quiet" onClick={() => act.mutate("release")}>
                End the hold
              </button>
            )}
            {(d.state === "ready" || d.state === "held") && (
              <button className="quiet" onClick={() => act.mutate("close")}>
                Close it to clients
              </button>
            )}
            {(d.state === "closed" || d.state === "failed" || d.state === "missing") && (
              <button className="quiet" onClick={() => act.mutate("open")}>
                Open it
              </button>
            )}
          </div>
          {(d.clients ?? []).length > 0 && (
            <Wide label="Disk">
              <table className="w-full text-sm">
                <caption className="head border-b border-ink text-left">Clients</caption>
                <thead>
                  <tr className="text-left text-faint">
                    <th className="py-1 font-normal">program or host</th>
                    <th className="font-normal">process or address</th>
                    <th className="font-normal">since</th>
                    <th className="text-right font-normal">read</th>
                    <th className="text-right font-normal">written</th>
                    <th className="text-right font-normal">flushes</th>
                    <th className="text-right font-normal">a second now</th>
                    <th className="text-right font-normal">a request took</th>
                  </tr>
                </thead>
                <tbody>
                  {(d.clients ?? []).map((c) => (
                    <tr key={keyOf(c)} className="border-t border-rule">
                      <td className="py-1">{c.host || c.program}</td>
                      <td>{c.host ? c.from : `${c.process}, user ${c.user}`}</td>
                      <td title={stamp(c.since, true)}>{ago(c.since)}</td>
                      <td className="text-right">{size(c.readBytes)}</td>
                      <td className="text-right">{size(c.writtenBytes)}</td>
                      <td className="text-right">{c.flushes}</td>
                      <td className="text-right whitespace-nowrap">{rates.get(keyOf(c))?.now ?? "–"}</td>
                      <td className="text-right whitespace-nowrap">{rates.get(keyOf(c))?.each ?? "–"}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </Wide>
          )}
          {d.state !== "missing" && <Since volume={volume} at={at} />}
          {d.state !== "missing" && <Writes volume={volume} />}
          {cloning && <CloneSheet volume={volume} at={at} close={() => setCloning(false)} />}
          {back && (
            <GoBackSheet volume={volume} at={at} connected={(d.clients ?? []).length} close={() => setBack(false)} />
          )}
        </>
      )}
    </section>
  );
}

/** Says what going back will do, then does it. */
function GoBackSheet(p: { volume: string; at: string; connected: number; close: () => void }) {
  const [disconnect, setDisconnect] = useState(false);
  const ask: RestoreAsk = { volume: p.volume, at: p.at, inPlace: true, ...(disconnect ? { disconnect } : {}) };
  const plan = useQuery({
    queryKey: ["plan", p.volume, p.at],
    queryFn: () => told(api.POST("/restores/plan", { body: { ...ask, disconnect: false }, headers: once() })),
    staleTime: 0,
  });
  const start = useMutation({ mutationFn: () => told(api.POST("/restores", { body: ask, headers: once() })) });
  const run = useRun(start.data?.id);
  const done = run.data?.ended;
  return (
    <Sheet title={`${p.volume} goes back`} open close={p.close}>
      <Trouble error={plan.error ?? start.error} />
      {plan.data && !start.data && (
        <>
          <p className="first-letter:uppercase">{plan.data.answer}.</p>
          <p className="mt-2 text-sm first-letter:uppercase">{plan.data.summary}.</p>
          {p.connected > 0 && (
            <label className="mt-3 flex items-baseline gap-2 text-sm">
              <input type="checkbox" checked={disconnect} onChange={(e) => setDisconnect(e.target.checked)} />
              disconnect the clients that have it open: they lose what they did not flush, and must open it anew
            </label>
          )}
          <button
            className="press mt-4"
            disabled={start.isPending || (p.connected > 0 && !disconnect)}
            onClick={() => start.mutate()}
          >
            Go back
          </button>
        </>
      )}
      {run.data && !done && <Progress run={run.data} />}
      {run.data && done && (
        <>
          <p className={worked(run.data) ? "" : "text-hand"}>{run.data.outcome}</p>
          {worked(run.data) && <UndoButton run={run.data} />}
        </>
      )}
      <p className="mt-4 text-sm text-faint">
        <Command
          text={
            `candid restore ${word(p.volume)} --at ` +
            `${p.at === "latest" ? "latest" : instant(p.at)} --in-place` +
            (disconnect ? " --disconnect" : "")
          }
        />
      </p>
    </Sheet>
  );
}
