import { useQuery } from "@tanstack/react-query";
import { useState } from "react";

import { api, type Schemas, told } from "../api/client";
import { Command, Sheet, Trouble, Waiting } from "../parts/ui";
import { stamp } from "../parts/times";
import { exact, size, word } from "../parts/words";
import { RestoreSheet } from "./restore";

type Version = Schemas["Version"];

const tint: Record<string, string> = { added: "bg-sea", removed: "text-hand", skipped: "text-faint" };
const picture = /\.(png|jpe?g|gif|webp)$/i;
const fileURL = (volume: string, at: string, path: string, show = false) =>
  `/api/v1/volumes/${encodeURIComponent(volume)}/file?` +
  new URLSearchParams({ at, path, ...(show ? { show: "1" } : {}) });

/** What a path was over time, with what differs from one version to the next. */
export function VersionsSheet({
  volume,
  path,
  inPlace,
  own,
  close,
}: {
  volume: string;
  path: string;
  inPlace: boolean;
  own?: boolean;
  close: () => void;
}) {
  const [sites, setSites] = useState(false);
  const list = useQuery({
    queryKey: ["versions", volume, path, sites],
    queryFn: () =>
      told(api.GET("/volumes/{name}/versions", { params: { path: { name: volume }, query: { path, sites } } })),
  });
  const [pair, setPair] = useState<[Version, Version] | null>(null);
  const [restoring, setRestoring] = useState<Version | null>(null);
  const all = list.data?.items ?? [];
  const before = (i: number) => all.slice(i + 1).find((v) => v.entry && !v.site);
  if (restoring)
    return (
      <RestoreSheet
        volume={volume}
        at={restoring.snapshot}
        of={restoring.until}
        from={restoring.site}
        paths={[path]}
        inPlace={inPlace}
        own={own}
        replace
        close={() => setRestoring(null)}
      />
    );
  return (
    <Sheet title={path} open close={close} wide>
      <Trouble error={list.error} />
      {list.isPending && <Waiting what="its versions" />}
      {all.length > 0 && (
        <div
          className={`overflow-x-auto ${pair ? "max-h-48 overflow-y-auto" : ""}`}
          tabIndex={pair ? 0 : undefined}
          role={pair ? "region" : undefined}
          aria-label={pair ? "Versions" : undefined}
        >
          <table className="plain">
            <thead>
              <tr>
                <th scope="col">What</th>
                <th scope="col">From</th>
                <th scope="col" className="hidden sm:table-cell">
                  Until
                </th>
                <th scope="col" className="hidden text-right! sm:table-cell">
                  Size
                </th>
                <th scope="col">
                  <span className="sr-only">Do</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {all.map((v, i) => {
                const old = before(i);
                return (
                  <tr key={v.snapshot + (v.site ?? "")}>
                    <td className={v.entry ? "" : "text-hand"}>{v.site ? `at ${v.site}` : v.what}</td>
                    <td className="sm:whitespace-nowrap">{stamp(v.since)}</td>
                    <td className="hidden whitespace-nowrap sm:table-cell" title={`${v.snapshots} snapshots`}>
                      {stamp(v.until)}
                    </td>
                    <td
                      className="hidden text-right whitespace-nowrap sm:table-cell"
                      title={v.entry ? exact(v.entry.size) : undefined}
                    >
                      {v.entry ? (v.entry.kind === "file" ? size(v.entry.size) : v.entry.kind) : ""}
                    </td>
                    <td className="text-right sm:whitespace-nowrap">
                      {v.entry && (
                        <span className="inline-flex flex-wrap justify-end gap-x-3">
                          {!own && !v.site && v.entry.kind === "file" && old?.entry?.kind === "file" && (
                            <button className="quiet" onClick={() => setPair([old, v])}>
                              compare
                            </button>
                          )}
                          {!v.site && v.entry.kind === "file" && (
                            <a className="quiet" href={fileURL(volume, v.snapshot, path)} download>
                              download
                            </a>
                          )}
                          <button className="quiet" onClick={() => setRestoring(v)}>
                            bring back
                          </button>
                        </span>
                      )}
                    </td>
                  </tr>
                );
              })}
            </tbody>
          </table>
        </div>
      )}
      {!own && (
        <p className="mt-2 text-sm">
          <label>
            <input type="checkbox" checked={sites} onChange={(e) => setSites(e.target.checked)} /> ask other sites too
          </label>
          {(list.data?.silent ?? []).map((why) => (
            <span key={why} className="block text-hand">
              {why}
            </span>
          ))}
        </p>
      )}
      {pair &&
        (picture.test(path) ? (
          <Pictures volume={volume} path={path} pair={pair} />
        ) : (
          <Lines volume={volume} path={path} pair={pair} />
        ))}
      <p className="mt-4 border-t border-rule pt-2">
        <Command text={`candid versions ${word(volume)} ${word(path)}${sites ? " --sites" : ""}`} />
      </p>
    </Sheet>
  );
}

function Pictures({ volume, path, pair }: { volume: string; path: string; pair: [Version, Version] }) {
  return (
    <div className="my-3 grid gap-3 sm:grid-cols-2">
      {pair.map((v) => (
        <figure key={v.snapshot} className="border border-rule p-2">
          <img
            className="max-h-72 w-full object-contain"
            src={fileURL(volume, v.snapshot, path, true)}
            alt={`${path} as of ${stamp(v.until)}`}
          />
          <figcaption className="text-xs text-faint">
            {stamp(v.since)} until {stamp(v.until)}
          </figcaption>
        </figure>
      ))}
    </div>
  );
}

function Lines({ volume, path, pair }: { volume: string; path: string; pair: [Version, Version] }) {
  const [from, to] = pair.map((v) => v.snapshot) as [string, string];
  const d = useQuery({
    queryKey: ["text", volume, path, from, to],
    queryFn: () =>
      told(
        api.GET("/volumes/{name}/text-difference", { params: { path: { name: volume }, query: { path, from, to } } }),
      ),
  });
  if (d.isPending) return <Waiting what="both versions" />;
  if (d.error) return <Trouble error={d.error} />;
  if (d.data.refused)
    return <p className="my-3 text-sm text-faint">The two cannot be compared line by line: {d.data.refused}.</p>;
  if (d.data.same) return <p className="my-3 text-sm text-faint">The content is the same in both.</p>;
  return (
    <section
      aria-label="What differs"
      tabIndex={0}
      className="my-3 max-h-72 overflow-auto border border-rule bg-sheet font-mono text-xs leading-5"
    >
      <p className="border-b border-rule px-2 font-body text-faint">
        {stamp(pair[0].until)} against {stamp(pair[1].since)}
      </p>
      {(d.data.lines ?? []).map((l, i) => (
        <div key={i} className={`flex gap-2 px-2 ${tint[l.what] ?? ""}`}>
          <span aria-hidden className="w-4 shrink-0 text-center">
            {l.what === "added" ? "+" : l.what === "removed" ? "−" : l.what === "skipped" ? "…" : ""}
          </span>
          <span className="whitespace-pre-wrap break-all">
            {l.what === "added" && <span className="sr-only">added: </span>}
            {l.what === "removed" && <span className="sr-only">removed: </span>}
            {l.text}
          </span>
        </div>
      ))}
    </section>
  );
}
