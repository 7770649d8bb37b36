import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";

import { api, once, type Schemas, told } from "../api/client";
import { Field, Sheet, Trouble } from "../parts/bits";
import { ago, size, stamp } from "../parts/words";

type Clone = Schemas["Clone"];

/** Writable copies of snapshots: their age, what they take, when they go. */
export function Clones({ volumes }: { volumes: string[] }) {
  const queries = useQueryClient();
  const list = useQuery({ queryKey: ["clones"], queryFn: () => told(api.GET("/clones")), refetchInterval: 60_000 });
  const [making, setMaking] = useState(false);
  const [leaving, setLeaving] = useState<Clone | null>(null);
  const again = () => void queries.invalidateQueries({ queryKey: ["clones"] });
  const all = list.data ?? [];
  return (
    <section className="my-8">
      <h2 className="head border-b border-ink">Clones</h2>
      <Trouble error={list.error} />
      {all.length === 0 && !list.isPending && <p className="py-2 text-sm text-faint">None. A clone is a writable copy of a moment on this site's host: made at once, and it takes room only for what is changed in it.</p>}
      {all.map((c) => (
        <div key={c.name} className="flex flex-wrap items-baseline gap-x-4 border-b border-rule py-2 text-sm">
          <span className="font-semibold">{c.name}</span>
          <span className="min-w-0 grow basis-80">of <Link className="quiet" to={`/volumes/${encodeURIComponent(c.volume)}`}>{c.volume}</Link> as of {stamp(c.taken)}, at <span className="font-mono break-all">{c.dir}</span>{!c.there && <span className="text-hand"> (not mounted at present)</span>}</span>
          <span className="text-faint">made {ago(c.made)}; {c.changed} changed, {size(c.bytes)}{c.until ? `; goes ${ago(c.until)}` : ""}</span>
          <button className="quiet" onClick={() => setLeaving(c)}>discard</button>
        </div>
      ))}
      {volumes.length > 0 && <button className="press mt-3" onClick={() => setMaking(true)}>Make a clone</button>}
      {making && <Make volumes={volumes} close={() => { setMaking(false); again(); }} />}
      {leaving && <Discard clone={leaving} close={() => { setLeaving(null); again(); }} />}
    </section>
  );
}

function Make({ volumes, close }: { volumes: string[]; close: () => void }) {
  const [name, setName] = useState("");
  const [volume, setVolume] = useState(volumes[0] ?? "");
  const [at, setAt] = useState("latest");
  const [dir, setDir] = useState("");
  const [days, setDays] = useState("7");
  const make = useMutation({
    mutationFn: () => told(api.POST("/clones", { body: { name, volume, at: at === "latest" ? at : new Date(at).toISOString(), dir, ...(Number(days) > 0 ? { until: new Date(Date.now() + Number(days) * 86400_000).toISOString() } : {}) }, headers: once() })),
    onSuccess: close,
  });
  return (
    <Sheet title="Make a clone" open close={close}>
      <form onSubmit={(e) => { e.preventDefault(); make.mutate(); }}>
        <Field label="Name"><input className="field w-full" value={name} onChange={(e) => setName(e.target.value)} required /></Field>
        <Field label="Volume"><select className="field w-full" value={volume} onChange={(e) => setVolume(e.target.value)}>{volumes.map((v) => <option key={v}>{v}</option>)}</select></Field>
        <Field label="As of" help="latest, or a moment such as 2026-03-04 14:05."><input className="field w-full font-mono" value={at} onChange={(e) => setAt(e.target.value)} required /></Field>
        <Field label="Directory" help="An empty directory of this site's host, below one of its roots."><input className="field w-full font-mono" value={dir} onChange={(e) => setDir(e.target.value)} required /></Field>
        <Field label="Discard after days" help="Empty: by hand."><input className="field w-full" inputMode="numeric" value={days} onChange={(e) => setDays(e.target.value)} /></Field>
        <Trouble error={make.error} />
        <div className="mt-3 flex gap-3"><button className="press" disabled={make.isPending}>Make it</button><button type="button" className="quiet" onClick={close}>Not now</button></div>
      </form>
    </Sheet>
  );
}

function Discard({ clone, close }: { clone: Clone; close: () => void }) {
  const [typed, setTyped] = useState("");
  const discard = useMutation({ mutationFn: () => told(api.DELETE("/clones/{name}", { params: { path: { name: clone.name } }, headers: once() })), onSuccess: close });
  return (
    <Sheet title={`Discard ${clone.name}`} open close={close}>
      <form onSubmit={(e) => { e.preventDefault(); discard.mutate(); }}>
        <p className="my-3 text-sm">{clone.changed === 0 ? "Nothing was changed in it." : `${clone.changed} names that were changed in it are gone for good, ${size(clone.bytes)}.`} The snapshot that it stands on goes as the rules say.</p>
        {clone.changed > 0 && <Field label={`Type ${clone.name} to go on`}><input className="field w-full" value={typed} onChange={(e) => setTyped(e.target.value)} /></Field>}
        <Trouble error={discard.error} />
        <div className="mt-3 flex gap-3"><button className="press press-hand" disabled={discard.isPending || (clone.changed > 0 && typed !== clone.name)}>Discard it</button><button type="button" className="quiet" onClick={close}>Not now</button></div>
      </form>
    </Sheet>
  );
}
