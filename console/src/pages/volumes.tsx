import { useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { Link } from "react-router";

import { api, told, type Volume } from "../api/client";
import { ByCommand, State, Trouble, Waiting } from "../parts/ui";
import { stamp } from "../parts/times";
import { ago, size } from "../parts/words";
import { useTyped } from "../parts/typed";
import { useAddress } from "../parts/address";
import { LongTable } from "../parts/longtable";
import { AddVolume } from "./addvolume";
import { Groups } from "./groups";
import { ForChosen } from "./manyvolumes";
import { MakeDisk } from "./makedisk";
import { Uncovered } from "./uncovered";

const text = (v: Volume) =>
  `${v.name} ${v.protection} ${Object.entries(v.labels ?? {})
    .map((l) => l.join("="))
    .join(" ")}`;

const alphabet = new Intl.Collator();
const orders: Record<string, (a: Volume, b: Volume) => number> = {
  newest: (a, b) => alphabet.compare(a.newest ?? "", b.newest ?? ""),
  size: (a, b) => b.lastBytes - a.lastBytes,
  state: (a, b) => alphabet.compare(a.protection, b.protection),
};

/** The volumes that match, in the order asked for; they come by name. */
function shownOf(all: Volume[], filter: string, order: string) {
  const found = filter ? all.filter((v) => text(v).includes(filter)) : all;
  return orders[order] ? [...found].sort(orders[order]) : found;
}

export function Volumes() {
  const list = useQuery({ queryKey: ["volumes"], queryFn: () => told(api.GET("/volumes")) });
  const [get, set] = useAddress();
  const [adding, setAdding] = useState(get("do") === "add");
  const [making, setMaking] = useState(false);
  const [looking, setLooking] = useState(false);
  const [picked, setPicked] = useState<ReadonlySet<string>>(new Set());
  const filter = get("find");
  const order = get("by") || "name";
  const [typed, setTyped] = useTyped(filter, (v) => set("find", v));
  const shown = useMemo(() => shownOf(list.data ?? [], filter, order), [list.data, filter, order]);
  if (list.isPending) return <Waiting what="volumes" />;
  if (list.error) return <Trouble error={list.error} />;
  const head = (key: string, label: string) => (
    <th scope="col" aria-sort={order === key ? "ascending" : undefined}>
      <button
        className={order === key ? "border-b-2 border-ink cursor-pointer" : "quiet"}
        onClick={() => set("by", key)}
      >
        {label}
      </button>
    </th>
  );
  return (
    <>
      <div className="my-5 flex flex-wrap items-baseline gap-4">
        <h1 className="head">Volumes</h1>
        <input
          className="field"
          aria-label="Filter"
          placeholder="filter by name, state, label"
          value={typed}
          onChange={(e) => setTyped(e.target.value)}
        />
        <span className="ml-auto flex flex-wrap gap-3">
          <button className="press" onClick={() => setAdding(true)}>
            Protect a directory
          </button>
          <button className="press" onClick={() => setLooking(true)}>
            See what nothing protects
          </button>
          <button className="press" onClick={() => setMaking(true)}>
            Make a disk
          </button>
        </span>
      </div>
      {shown.length === 0 ? (
        <p>
          {filter
            ? "No volume matches the filter."
            : "Nothing is protected yet. Protect a directory of this host or make a disk, and write a policy for it."}
        </p>
      ) : (
        <>
          <ForChosen
            chosen={shown.filter((v) => picked.has(v.name)).map((v) => v.name)}
            all={list.data ?? []}
            clear={() => setPicked(new Set())}
          />
          <LongTable
            rows={shown}
            keyOf={(v) => v.name}
            nameOf={(v) => v.name}
            chosen={picked}
            choose={setPicked}
            head={
              <>
                {head("name", "Volume")}
                {head("state", "Protection")}
                {head("newest", "Newest state")}
                <th scope="col">Next due</th>
                <th scope="col">Snapshots</th>
                {head("size", "Size")}
                <th scope="col">Policies</th>
                <th scope="col">Labels</th>
              </>
            }
            cells={(v) => (
              <>
                <td>
                  <Link className="quiet font-semibold" to={`/volumes/${encodeURIComponent(v.name)}`}>
                    {v.name}
                  </Link>
                </td>
                <td>
                  <State word={v.protection} />
                </td>
                <td data-label="newest state">
                  {v.newest ? <span title={stamp(v.newest, true)}>{ago(v.newest)}</span> : "–"}
                </td>
                <td data-label="next due">
                  {v.nextDue ? <span title={stamp(v.nextDue, true)}>{ago(v.nextDue)}</span> : "–"}
                </td>
                <td data-label="snapshots">
                  {v.snapshots}
                  {v.inGrace > 0 && <span className="text-faint"> + {v.inGrace} in grace</span>}
                </td>
                <td data-label="size">{size(v.lastBytes)}</td>
                <td data-label="policies">{(v.policies ?? []).join(", ") || "none"}</td>
                <td className="text-faint">
                  {Object.entries(v.labels ?? {})
                    .map((l) => l.join("="))
                    .join(" ")}
                </td>
              </>
            )}
          />
        </>
      )}
      <Groups volumes={(list.data ?? []).filter((v) => v.protected && !v.name.includes("@")).map((v) => v.name)} />
      {adding && (
        <AddVolume
          close={() => {
            setAdding(false);
            set("do", "");
          }}
        />
      )}
      {looking && <Uncovered close={() => setLooking(false)} />}
      {making && <MakeDisk close={() => setMaking(false)} />}
      <ByCommand
        lines={[
          "candid volume list",
          "candid volume add NAME --path DIR --label key=value",
          "candid volume uncovered",
          "candid volume add NAME --size SIZE",
          "candid volume label NAME NAME key=value",
          "candid group put NAME VOLUME VOLUME",
        ]}
      />
    </>
  );
}
