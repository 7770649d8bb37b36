import { useInfiniteQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";

import { api, type Entry, told } from "../api/client";
import { Trouble, Waiting } from "../parts/ui";
import { stamp } from "../parts/times";
import { ago, exact, many, size } from "../parts/words";
import { Changes } from "./changes";
import { Find } from "./find";
import { RestoreSheet } from "./restore";
import { VersionsSheet } from "./versions";
import { Wide } from "../parts/wide";

const views = [
  ["files", "Files"],
  ["find", "Find"],
  ["changes", "What changed"],
] as const;

/** What is in the volume: its files as of the chosen moment, names in all snapshots, and what changed since. */
export function Contents({
  volume,
  at,
  inPlace,
  own,
}: {
  volume: string;
  at: string;
  inPlace: boolean;
  own?: string[];
}) {
  const [params, setParams] = useSearchParams();
  const view = params.get("view") ?? "files";
  const show = (v: string) =>
    setParams((old) => {
      const n = new URLSearchParams(old);
      if (v === "files") n.delete("view");
      else n.set("view", v);
      return n;
    });
  return (
    <section aria-label="Contents" className="my-4 min-w-0">
      <nav aria-label="Views of the contents" className="mb-1 flex gap-5">
        {views
          .filter(([key]) => !own || key !== "changes")
          .map(([key, label]) => (
            <button
              key={key}
              aria-current={view === key ? "true" : undefined}
              className={view === key ? "border-b-2 border-ink font-semibold" : "quiet"}
              onClick={() => show(key)}
            >
              {label}
            </button>
          ))}
      </nav>
      {view === "find" ? (
        <Find volume={volume} inPlace={inPlace} own={!!own} />
      ) : view === "changes" ? (
        <Changes volume={volume} at={at} here={inPlace} />
      ) : (
        <Files volume={volume} at={at} inPlace={inPlace} own={own} />
      )}
    </section>
  );
}

/** The volume's files as of the chosen moment, and what is picked to bring back. */
function Files({ volume, at, inPlace, own }: { volume: string; at: string; inPlace: boolean; own?: string[] }) {
  const [params, setParams] = useSearchParams();
  const path = params.get("path") ?? (own?.length === 1 ? own[0]! : "");
  const mine = !own || own.some((o) => o === "" || path === o || path.startsWith(`${o}/`));
  const [basket, setBasket] = useState<string[]>([]);
  const [restoring, setRestoring] = useState<string[] | null>(null);
  const [versions, setVersions] = useState("");
  const dir = useInfiniteQuery({
    queryKey: ["browse", volume, at, path],
    queryFn: ({ pageParam }) =>
      told(
        api.GET("/volumes/{name}/browse", {
          params: { path: { name: volume }, query: { at, path, after: pageParam } },
        }),
      ),
    initialPageParam: "",
    getNextPageParam: (last) => last.next || undefined,
  });
  const open = (p: string) =>
    setParams((old) => {
      const n = new URLSearchParams(old);
      if (p) n.set("path", p);
      else n.delete("path");
      return n;
    });
  const parts = path ? path.split("/") : [];
  const entries = dir.data?.pages.flatMap((p) => p.entries ?? []) ?? [];
  const first = dir.data?.pages[0];
  const full = (e: Entry) => (path ? `${path}/${e.name}` : e.name);
  const toggle = (p: string) => setBasket((old) => (old.includes(p) ? old.filter((x) => x !== p) : [...old, p]));
  return (
    <div>
      <div className="flex flex-wrap items-baseline gap-3 border-b border-ink">
        <h2 className="head">{at === "latest" ? "The newest state" : `As of ${stamp(at)}`}</h2>
        {first && <span className="text-sm text-faint">{first.answer}</span>}
      </div>
      <div className="flex flex-wrap items-center gap-3 py-2 text-sm">
        <nav aria-label="Path" className="min-w-0">
          <button className="quiet" onClick={() => open("")}>
            {volume}
          </button>
          {parts.map((p, i) => (
            <span key={i}>
              {" "}
              /{" "}
              <button className="quiet" onClick={() => open(parts.slice(0, i + 1).join("/"))}>
                {p}
              </button>
            </span>
          ))}
        </nav>
        <span className="ml-auto flex gap-3">
          {basket.length > 0 && (
            <button className="press press-hand" onClick={() => setRestoring(basket)}>
              Bring back {basket.length} picked
            </button>
          )}
          {basket.length > 0 && (
            <button className="quiet" onClick={() => setBasket([])}>
              pick none
            </button>
          )}
          {basket.length === 0 && first && mine && (path || !own) && (
            <button className="press" onClick={() => setRestoring(path ? [path] : [])}>
              Bring back {path ? "this folder" : "the whole volume"}
            </button>
          )}
        </span>
      </div>
      <Trouble error={dir.error} />
      {dir.isPending && <Waiting what="files" />}
      {first && entries.length === 0 && (
        <p className="py-3 text-sm text-faint">The directory was empty at that moment.</p>
      )}
      {entries.length > 0 && (
        <Wide label="Files">
          <table className="plain">
            <thead>
              <tr>
                <th scope="col">
                  <span className="sr-only">Pick</span>
                </th>
                <th scope="col">Name</th>
                <th scope="col" className="text-right!">
                  Size
                </th>
                <th scope="col">Modified</th>
                <th scope="col" className="hidden sm:table-cell">
                  Mode
                </th>
              </tr>
            </thead>
            <tbody>
              {entries.map((e) => (
                <tr key={e.name}>
                  <td className="w-6">
                    <input
                      type="checkbox"
                      aria-label={`Pick ${e.name}`}
                      checked={basket.includes(full(e))}
                      onChange={() => toggle(full(e))}
                    />
                  </td>
                  <td className="break-all">
                    {e.kind === "directory" ? (
                      <button className="quiet text-left" onClick={() => open(full(e))}>
                        {e.name}/
                      </button>
                    ) : e.kind === "file" ? (
                      <button className="quiet text-left" title="its versions" onClick={() => setVersions(full(e))}>
                        {e.name}
                      </button>
                    ) : (
                      <span>
                        {e.name} <span className="text-faint">{e.target ? `→ ${e.target}` : e.kind}</span>
                      </span>
                    )}
                  </td>
                  <td className="text-right whitespace-nowrap" title={e.kind === "file" ? exact(e.size) : undefined}>
                    {e.kind === "directory" ? (
                      <span className="text-faint">{many(e.entries ?? 0, "name")}</span>
                    ) : e.kind === "file" ? (
                      size(e.size)
                    ) : (
                      ""
                    )}
                  </td>
                  <td className="whitespace-nowrap" title={ago(e.modified)}>
                    {stamp(e.modified)}
                  </td>
                  <td className="hidden font-mono text-faint sm:table-cell">{e.mode}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </Wide>
      )}
      {dir.hasNextPage && (
        <button className="press mt-3" onClick={() => void dir.fetchNextPage()} disabled={dir.isFetchingNextPage}>
          Show more names
        </button>
      )}
      {versions && (
        <VersionsSheet volume={volume} path={versions} inPlace={inPlace} own={!!own} close={() => setVersions("")} />
      )}
      {restoring && (
        <RestoreSheet
          volume={volume}
          at={at}
          paths={restoring}
          inPlace={inPlace}
          own={!!own}
          close={(done) => {
            setRestoring(null);
            if (done) setBasket([]);
          }}
        />
      )}
    </div>
  );
}
