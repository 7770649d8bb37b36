import { keepPreviousData, useInfiniteQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";

import { api, type Schemas, told } from "../api/client";
import { NamesRead } from "../parts/namesread";
import { Trouble } from "../parts/ui";
import { stamp } from "../parts/times";
import { ago, exact, size } from "../parts/words";
import { RestoreSheet } from "./restore";
import { VersionsSheet } from "./versions";
import { Wide } from "../parts/wide";

type Found = Schemas["Found"];

/** Names in all snapshots of a volume, also of what is not there any more. */
export function Find({ volume, inPlace, own }: { volume: string; inPlace: boolean; own?: boolean }) {
  const [params, setParams] = useSearchParams();
  const pattern = params.get("find") ?? "";
  const deleted = params.get("deleted") === "1";
  const sites = params.get("sites") === "1";
  const [text, setText] = useState(pattern);
  const [restoring, setRestoring] = useState<(Found & { site?: string }) | null>(null);
  const [versions, setVersions] = useState("");
  const set = (key: string, value: string) =>
    setParams(
      (old) => {
        const n = new URLSearchParams(old);
        if (value) n.set(key, value);
        else n.delete(key);
        return n;
      },
      { replace: true },
    );
  const found = useInfiniteQuery({
    queryKey: ["find", volume, pattern, deleted, sites],
    queryFn: ({ pageParam }) =>
      told(
        api.GET("/volumes/{name}/find", {
          params: {
            path: { name: volume },
            query: { pattern, deleted, sites, limit: 50, after: pageParam || undefined },
          },
        }),
      ),
    initialPageParam: "",
    getNextPageParam: (last) => last.next || undefined,
    enabled: pattern !== "",
    placeholderData: keepPreviousData,
    retry: false,
  });
  const first = found.data?.pages[0];
  const items = pattern === "" ? [] : (found.data?.pages.flatMap((p) => p.items ?? []) ?? []);
  return (
    <div>
      <form
        className="flex flex-wrap items-center gap-3 border-b border-ink py-2 text-sm"
        onSubmit={(e) => {
          e.preventDefault();
          set("find", text.trim());
        }}
      >
        <input
          className="field min-w-0 grow"
          aria-label="Look for"
          placeholder="part of a name, or *.pdf, or notes/*.txt"
          value={text}
          onChange={(e) => setText(e.target.value)}
        />
        <button className="press">Find</button>
        <label>
          <input type="checkbox" checked={deleted} onChange={(e) => set("deleted", e.target.checked ? "1" : "")} /> only
          what is not there any more
        </label>
        {!own && (
          <label>
            <input type="checkbox" checked={sites} onChange={(e) => set("sites", e.target.checked ? "1" : "")} /> ask
            other sites too
          </label>
        )}
      </form>
      <Trouble error={found.error} />
      {pattern !== "" && found.isPending && <NamesRead volume={volume} />}
      {pattern === "" && (
        <p className="py-3 text-sm text-faint">
          Looks through every snapshot of {volume} at once, those of deleted files too. Upper and lower case are alike.
        </p>
      )}
      {first && pattern !== "" && (
        <p className="py-2 text-sm" aria-live="polite">
          {first.total === 0
            ? `Nothing like it is in the ${first.snapshots} snapshots.`
            : `${first.total} ${first.total === 1 ? "path" : "paths"} in ${first.snapshots} snapshots, ` +
              "the newest modified first."}
        </p>
      )}
      {items.length > 0 && (
        <Wide label="Found">
          <table className="plain">
            <thead>
              <tr>
                <th scope="col">Path</th>
                <th scope="col" className="hidden text-right! sm:table-cell">
                  Size
                </th>
                <th scope="col" className="hidden sm:table-cell">
                  Modified
                </th>
                <th scope="col">Now</th>
                <th scope="col">
                  <span className="sr-only">Do</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {items.map((f) => (
                <tr key={f.path}>
                  <td className="break-all">
                    <button className="quiet text-left" title="its versions" onClick={() => setVersions(f.path)}>
                      {f.path}
                      {f.kind === "directory" ? "/" : ""}
                    </button>
                    {f.versions > 1 && <span className="text-faint"> {f.versions} versions</span>}
                  </td>
                  <td className="hidden text-right whitespace-nowrap sm:table-cell" title={exact(f.size)}>
                    {f.kind === "file" ? size(f.size) : <span className="text-faint">{f.kind}</span>}
                  </td>
                  <td className="hidden whitespace-nowrap sm:table-cell" title={ago(f.modified)}>
                    {stamp(f.modified)}
                  </td>
                  <td className="sm:whitespace-nowrap">
                    {f.there ? (
                      <span className="text-faint">there</span>
                    ) : (
                      <span className="text-hand">last seen {stamp(f.lastSeen)}</span>
                    )}
                  </td>
                  <td className="text-right">
                    <button className="quiet whitespace-nowrap" onClick={() => setRestoring(f)}>
                      bring back
                    </button>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </Wide>
      )}
      {found.hasNextPage && pattern !== "" && (
        <button className="press mt-3" onClick={() => void found.fetchNextPage()} disabled={found.isFetchingNextPage}>
          Show more
        </button>
      )}
      {pattern !== "" &&
        (first?.elsewhere ?? []).map((far) => (
          <FoundElsewhere key={far.site} far={far} bring={(f) => setRestoring({ ...f, site: far.site })} />
        ))}
      {versions && (
        <VersionsSheet volume={volume} path={versions} inPlace={inPlace} own={own} close={() => setVersions("")} />
      )}
      {restoring && (
        <RestoreSheet
          volume={volume}
          at={restoring.snapshot}
          of={restoring.lastSeen}
          from={restoring.site}
          paths={[restoring.path]}
          inPlace={inPlace}
          own={own}
          close={() => setRestoring(null)}
        />
      )}
    </div>
  );
}

/** What another site has that no snapshot here has. */
function FoundElsewhere({ far, bring }: { far: Schemas["FoundElsewhere"]; bring: (f: Found) => void }) {
  const items = far.items ?? [];
  return (
    <section aria-label={`At ${far.site}`} className="mt-4 text-sm">
      <p>
        {far.silent ? (
          <span className="text-hand">
            {far.site} does not tell: {far.silent}
          </span>
        ) : far.snapshots === 0 ? (
          `${far.site} has no snapshot of it.`
        ) : items.length === 0 ? (
          `${far.site} has nothing more in ${far.snapshots} snapshots.`
        ) : (
          <span className="font-semibold">{far.site} has what no snapshot here has:</span>
        )}
      </p>
      {items.length > 0 && (
        <ul>
          {items.map((f) => (
            <li key={f.path} className="flex flex-wrap items-baseline gap-x-4 border-b border-rule py-1.5">
              <span className="min-w-0 grow break-all">
                {f.path}
                {f.kind === "directory" ? "/" : ""}
              </span>
              <span className="text-faint">
                {f.kind === "file" ? size(f.size) : f.kind}, last seen {stamp(f.lastSeen)}
              </span>
              <button className="quiet" onClick={() => bring(f)}>
                bring back
              </button>
            </li>
          ))}
        </ul>
      )}
    </section>
  );
}
