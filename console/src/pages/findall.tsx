import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { Link, useSearchParams } from "react-router";

import { api, type Schemas, told } from "../api/client";
import { NamesRead } from "../parts/namesread";
import { Trouble, Waiting } from "../parts/ui";
import { Wide } from "../parts/wide";
import { stamp } from "../parts/times";
import { exact, many, size } from "../parts/words";

/** Looks for names in all volumes, or for where a path of the host lies. */
export function FindAll() {
  const [params, setParams] = useSearchParams();
  const pattern = params.get("find") ?? "";
  const deleted = params.get("deleted") === "1";
  const [text, setText] = useState(pattern);
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
  const toggle = () => set("deleted", deleted ? "" : "1");
  const onHost = pattern.startsWith("/");
  return (
    <>
      <form
        className="my-2 flex flex-wrap items-center gap-3 text-sm"
        onSubmit={(e: FormEvent) => {
          e.preventDefault();
          set("find", text.trim());
        }}
      >
        <input
          className="field min-w-0 grow"
          aria-label="Look for in all volumes"
          placeholder="part of a name, *.pdf, or a path on the host: /srv/shares/notes/a.txt"
          value={text}
          onChange={(e) => setText(e.target.value)}
        />
        <button className="press">Find</button>
        {!onHost && (
          <label>
            <input type="checkbox" checked={deleted} onChange={toggle} /> only what is not there any more
          </label>
        )}
      </form>
      {pattern === "" ? (
        <p className="py-3 text-sm text-faint">
          Looks through every snapshot of every volume, those of deleted files too; or says in which volume a path of
          the host lies.
        </p>
      ) : onHost ? (
        <OnHost path={pattern} />
      ) : (
        <Everywhere pattern={pattern} deleted={deleted} />
      )}
    </>
  );
}

function OnHost({ path }: { path: string }) {
  const places = useQuery({
    queryKey: ["paths", path],
    queryFn: ({ signal }) => told(api.GET("/paths", { params: { query: { path } }, signal })),
    retry: false,
  });
  if (places.isPending) return <Waiting what="the volumes" />;
  return (
    <>
      <Trouble error={places.error} />
      <ul className="my-2 text-sm">
        {(places.data ?? []).map((l) => (
          <li key={l.volume} className="py-1">
            <Link
              className="quiet font-semibold"
              to={`/volumes/${encodeURIComponent(l.volume)}?path=${encodeURIComponent(above(l.path))}`}
            >
              {l.volume}
            </Link>
            , {l.path ? <span className="font-mono">{l.path}</span> : "all of it"}
            {l.path && (
              <>
                {": "}
                <Link
                  className="quiet"
                  to={`?volume=${encodeURIComponent(l.volume)}&find=${encodeURIComponent("/" + l.path)}`}
                >
                  find it and its versions
                </Link>
              </>
            )}
          </li>
        ))}
      </ul>
    </>
  );
}

/** The directory that holds a path. */
const above = (path: string) => path.split("/").slice(0, -1).join("/");

function Everywhere({ pattern, deleted }: { pattern: string; deleted: boolean }) {
  const found = useInfiniteQuery({
    queryKey: ["find", "everywhere", pattern, deleted],
    queryFn: ({ pageParam, signal }) =>
      told(api.GET("/find", { params: { query: { pattern, deleted, behind: pageParam, limit: 200 } }, signal })),
    initialPageParam: "",
    getNextPageParam: (last) => last.next || undefined,
    retry: false,
  });
  if (found.isPending) return <NamesRead />;
  if (found.error) return <Trouble error={found.error} />;
  const pages = found.data.pages;
  const items = pages
    .flatMap((p) => p.items ?? [])
    .sort((a, b) => b.modified.localeCompare(a.modified))
    .slice(0, 500);
  const total = pages.reduce((n, p) => n + p.total, 0);
  const where = `${many(
    pages.reduce((n, p) => n + p.snapshots, 0),
    "snapshot",
  )} of ${many(
    pages.reduce((n, p) => n + p.volumes, 0),
    "volume",
  )}`;
  const left = pages.at(-1)?.left ?? 0;
  return (
    <>
      <p className="py-2 text-sm" aria-live="polite">
        {total === 0
          ? `Nothing like it is in the ${where}.`
          : `${many(total, "path")} in ${where}, the newest modified first.`}
        {total > items.length && ` ${items.length} of them are listed.`}
      </p>
      {items.length > 0 && (
        <Wide label="Found">
          <table className="plain stack">
            <thead>
              <tr>
                <th scope="col">Volume</th>
                <th scope="col">Path</th>
                <th scope="col">Size</th>
                <th scope="col">Modified</th>
                <th scope="col">Now</th>
              </tr>
            </thead>
            <tbody>
              {items.map((f) => (
                <Line key={`${f.volume} ${f.path}`} f={f} />
              ))}
            </tbody>
          </table>
        </Wide>
      )}
      {found.hasNextPage && (
        <button className="press mt-2" onClick={() => void found.fetchNextPage()} disabled={found.isFetchingNextPage}>
          {found.isFetchingNextPage ? "Searching …" : `Search the other ${many(left, "volume")}`}
        </button>
      )}
    </>
  );
}

function Line({ f }: { f: Schemas["FoundIn"] }) {
  return (
    <tr>
      <td className="font-semibold">{f.volume}</td>
      <td className="break-all">
        <Link className="quiet" to={`?volume=${encodeURIComponent(f.volume)}&find=${encodeURIComponent("/" + f.path)}`}>
          {f.path}
          {f.kind === "directory" ? "/" : ""}
        </Link>
        {f.versions > 1 && <span className="text-faint"> {f.versions} versions</span>}
      </td>
      <td data-label="size" title={exact(f.size)}>
        {f.kind === "file" ? size(f.size) : <span className="text-faint">{f.kind}</span>}
      </td>
      <td data-label="modified" className="whitespace-nowrap">
        {stamp(f.modified)}
      </td>
      <td>{f.there ? "there" : `last seen ${stamp(f.lastSeen)}`}</td>
    </tr>
  );
}
