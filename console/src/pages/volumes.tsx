import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";

import { api, once, type Schemas, told } from "../api/client";
import { ByCommand, Field, Sheet, State, Trouble, Waiting } from "../parts/ui";
import { ago, many, size, stamp } from "../parts/words";
import { useTyped } from "../parts/typed";
import { useAddress } from "../parts/address";
import { LongTable } from "../parts/longtable";
import { Groups } from "./groups";
import { ForChosen } from "./manyvolumes";
import { MakeDisk } from "./makedisk";

export function Volumes() {
  const list = useQuery({ queryKey: ["volumes"], queryFn: () => told(api.GET("/volumes")) });
  const [get, set] = useAddress();
  const [adding, setAdding] = useState(false);
  const [making, setMaking] = useState(false);
  const [picked, setPicked] = useState<ReadonlySet<string>>(new Set());
  const filter = get("find");
  const order = get("by") || "name";
  const [typed, setTyped] = useTyped(filter, (v) => set("find", v));
  if (list.isPending) return <Waiting what="volumes" />;
  if (list.error) return <Trouble error={list.error} />;
  const shown = (list.data ?? [])
    .filter((v) =>
      `${v.name} ${v.protection} ${Object.entries(v.labels ?? {})
        .map((l) => l.join("="))
        .join(" ")}`.includes(filter),
    )
    .sort((a, b) =>
      order === "newest"
        ? (a.newest ?? "").localeCompare(b.newest ?? "")
        : order === "size"
          ? b.lastBytes - a.lastBytes
          : order === "state"
            ? a.protection.localeCompare(b.protection)
            : a.name.localeCompare(b.name),
    );
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
      <AddVolume open={adding} close={() => setAdding(false)} />
      {making && <MakeDisk close={() => setMaking(false)} />}
      <ByCommand
        lines={[
          "candid volume list",
          "candid volume add NAME --path DIR --label key=value",
          "candid volume add NAME --size SIZE",
          "candid volume label NAME NAME key=value",
          "candid group put NAME VOLUME VOLUME",
        ]}
      />
    </>
  );
}

function AddVolume({ open, close }: { open: boolean; close: () => void }) {
  const queries = useQueryClient();
  const [name, setName] = useState("");
  const [path, setPath] = useState("");
  const [labels, setLabels] = useState("");
  const add = useMutation({
    mutationFn: () => {
      const pairs = labels
        .split(/[\s,]+/)
        .filter(Boolean)
        .map((p) => p.split("=") as [string, string]);
      return told(api.POST("/volumes", { body: { name, path, labels: Object.fromEntries(pairs) }, headers: once() }));
    },
    onSuccess: () => queries.invalidateQueries(),
  });
  const done = () => {
    add.reset();
    setName("");
    setPath("");
    setLabels("");
    close();
  };
  return (
    <Sheet title="Protect a directory" open={open} close={done}>
      {add.data ? (
        <Found found={add.data} done={done} />
      ) : (
        <form
          onSubmit={(e) => {
            e.preventDefault();
            add.mutate();
          }}
        >
          <Field label="Name" help="Lower-case letters, digits and dashes.">
            <input className="field w-full" value={name} onChange={(e) => setName(e.target.value)} required />
          </Field>
          <Field label="Directory" help="On this site's host, below one of its roots.">
            <input className="field w-full font-mono" value={path} onChange={(e) => setPath(e.target.value)} required />
          </Field>
          <Field label="Labels" help="key=value, by which policies and routes choose.">
            <input
              className="field w-full"
              value={labels}
              onChange={(e) => setLabels(e.target.value)}
              placeholder="collection=herbarium"
            />
          </Field>
          <Trouble error={add.error} />
          <div className="mt-4 flex gap-3">
            <button className="press" disabled={add.isPending}>
              {add.isPending ? "Looking …" : "Protect it"}
            </button>
            <button type="button" className="quiet" onClick={done}>
              Not now
            </button>
          </div>
        </form>
      )}
    </Sheet>
  );
}

function Found({ found, done }: { found: Schemas["VolumeFound"]; done: () => void }) {
  return (
    <>
      <p className="font-say text-lg">
        {many(found.files, "file")} in {many(found.directories, "directory", "directories")},{" "}
        {size(found.bytes) + ", on " + found.filesystem}.
      </p>
      <p className="my-2">
        The first snapshot needs at most {size(found.firstNeeds)}; {size(found.storeFree)} are free in the store.
      </p>
      <ul>
        {(found.warnings ?? []).map((w) => (
          <li key={w} className="my-2 border-l-4 border-hand pl-3 text-sm">
            {w}
          </li>
        ))}
      </ul>
      <div className="mt-4">
        <Link className="press" to={`/volumes/${encodeURIComponent(found.volume.name)}`} onClick={done}>
          Go to the volume
        </Link>
      </div>
    </>
  );
}
