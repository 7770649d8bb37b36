import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";

import { api, type Snapshot, told } from "../api/client";
import { useAddress } from "../parts/address";
import { Choose } from "../parts/choose";
import { useTyped } from "../parts/typed";
import { LongTable } from "../parts/longtable";
import { ByCommand, Trouble, Waiting } from "../parts/ui";
import { stamp } from "../parts/times";
import { size, word } from "../parts/words";
import { ForChosen } from "./chosen";

const whiches = [
  { value: "", label: "all" },
  { value: "kept", label: "kept" },
  { value: "grace", label: "in grace" },
  { value: "marked", label: "marked to keep" },
  { value: "end", label: "with an end of their own" },
  { value: "turn", label: "out of turn" },
  { value: "here", label: "carried nowhere" },
];
const sorts = [
  { value: "newest", label: "newest" },
  { value: "oldest", label: "oldest" },
  { value: "volume", label: "volume" },
  { value: "new", label: "most that was new" },
  { value: "size", label: "greatest" },
  { value: "own", label: "most that is its own" },
] as const;
const causes = ["", "scheduled", "by hand", "safety", "left"].map((c) => ({ value: c, label: c || "any" }));

/** The snapshots of all volumes, to look through and to act on many. */
export function Snapshots() {
  const [get, set] = useAddress();
  const [picked, setPicked] = useState<ReadonlySet<string>>(new Set());
  const [text, setText] = useTyped(get("text"), (v) => set("text", v));
  const sort = sorts.find((s) => s.value === get("sort"))?.value ?? "newest";
  const asked = { text: get("text"), which: get("which"), cause: get("cause"), site: get("site"), sort };
  const sites = useQuery({ queryKey: ["sites"], queryFn: () => told(api.GET("/sites")) });
  const list = useInfiniteQuery({
    queryKey: ["snapshots", "of all", asked],
    queryFn: ({ pageParam, signal }) =>
      told(api.GET("/snapshots", { params: { query: { ...asked, after: pageParam, limit: 200 } }, signal })),
    initialPageParam: "",
    getNextPageParam: (last) => last.next || undefined,
    placeholderData: (old) => old,
  });
  const all = list.data?.pages.flatMap((p) => p.items ?? []) ?? [];
  const flags = Object.entries(asked).filter(([k, v]) => v && !(k === "sort" && v === "newest"));
  const narrowed = flags.some(([k]) => k !== "sort");
  return (
    <>
      <div className="my-5 flex flex-wrap items-baseline gap-x-4 gap-y-2">
        <h1 className="head">Snapshots</h1>
        <input
          className="field"
          aria-label="Look for"
          placeholder="in volume, note, reason, set"
          value={text}
          onChange={(e) => setText(e.target.value)}
        />
        <span className="inline-flex items-baseline gap-2 text-sm">
          State <Choose label="State" value={asked.which} options={whiches} choose={(v) => set("which", v)} />
        </span>
        <span className="inline-flex items-baseline gap-2 text-sm">
          Cause <Choose label="Cause" value={asked.cause} options={causes} choose={(v) => set("cause", v)} />
        </span>
        {(sites.data ?? []).length > 0 && (
          <span className="inline-flex items-baseline gap-2 text-sm">
            Carried to{" "}
            <Choose
              label="Carried to"
              value={asked.site}
              options={[
                { value: "", label: "any or none" },
                ...sites.data!.map((p) => ({ value: p.name, label: p.name })),
              ]}
              choose={(v) => set("site", v)}
            />
          </span>
        )}
        <span className="inline-flex items-baseline gap-2 text-sm">
          First <Choose label="First" value={sort} options={[...sorts]} choose={(v) => set("sort", v)} />
        </span>
      </div>
      <Trouble error={list.error} />
      {list.isPending && <Waiting what="snapshots" />}
      {list.data && all.length === 0 && (
        <p>{narrowed ? "No snapshot is like that." : "There are none yet: take one of a volume."}</p>
      )}
      {all.length > 0 && (
        <>
          <ForChosen chosen={all.filter((s) => picked.has(s.id))} clear={() => setPicked(new Set())} />
          <LongTable
            rows={all}
            keyOf={(s) => s.id}
            nameOf={(s) => `that of ${s.volume}, ${stamp(s.taken)}`}
            chosen={picked}
            choose={setPicked}
            head={
              <>
                <th scope="col">Taken</th>
                <th scope="col">Volume</th>
                <th scope="col">Cause</th>
                <th scope="col">New</th>
                {sort === "own" && <th scope="col">Its own</th>}
                <th scope="col">Carried to</th>
                <th scope="col">Noted</th>
                <th scope="col">Why it is here</th>
              </>
            }
            cells={(s) => <Cells s={s} own={sort === "own"} />}
          />
          {list.hasNextPage && (
            <button className="press mt-2" onClick={() => void list.fetchNextPage()} disabled={list.isFetchingNextPage}>
              Show more
            </button>
          )}
        </>
      )}
      <ByCommand
        lines={[
          ["candid snapshot list", ...flags.map(([k, v]) => `--${k === "site" ? "carried-to" : k} ${word(v)}`)].join(
            " ",
          ),
          "candid snapshot keep ID ID --reason WHY",
          "candid snapshot change ID ID --label key=value",
          "candid snapshot carry ID ID --to SITE",
          "candid snapshot restore ID ID --to DIR",
          "candid snapshot remove ID ID",
          "candid snapshot remove ID ID --at-once",
        ]}
      />
    </>
  );
}

function Cells({ s, own }: { s: Snapshot; own: boolean }) {
  return (
    <>
      <td className="whitespace-nowrap font-mono">
        <Link
          className="quiet"
          to={`/volumes/${encodeURIComponent(s.volume)}?at=${encodeURIComponent(
            new Date(Math.ceil(Date.parse(s.taken) / 1000) * 1000).toISOString(),
          )}`}
        >
          {stamp(s.taken)}
        </Link>
      </td>
      <td className="font-semibold">{s.volume}</td>
      <td>{s.cause}</td>
      <td data-label="new" className="whitespace-nowrap" title={`${s.bytes} bytes in all`}>
        {size(s.stored)}
      </td>
      {own && (
        <td data-label="its own" className="whitespace-nowrap">
          {size(s.unique ?? 0)}
        </td>
      )}
      <td data-label={s.farPlaces?.length ? "carried to" : undefined}>{(s.farPlaces ?? []).join(", ")}</td>
      <td>
        {s.note && <q>{s.note}</q>}{" "}
        {Object.entries(s.labels ?? {}).map((l) => (
          <span key={l[0]} className="mr-1 font-mono text-xs">
            {l.join("=")}
          </span>
        ))}
      </td>
      <td className="text-faint">
        {s.state === "kept" ? (s.reasons ?? []).join("; ") : `in grace until ${stamp(s.graceUntil!)}: ${s.letGo}`}
        {s.ownEnd && `; asked to stay until ${stamp(s.ownEnd)}`}
      </td>
    </>
  );
}
