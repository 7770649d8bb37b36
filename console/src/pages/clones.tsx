import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";

import { api, once, type Schemas, told } from "../api/client";
import { Pick } from "../parts/pick";
import { useRun, worked } from "../api/run";
import { ByCommand, Field, Progress, Sheet, Trouble } from "../parts/ui";
import { stamp } from "../parts/times";
import { ago, many, size, word } from "../parts/words";

type Clone = Schemas["Clone"];

/** Writable copies of snapshots: their age, what they take, when they go. */
export function Clones({ volumes }: { volumes: string[] }) {
  const queries = useQueryClient();
  const list = useQuery({ queryKey: ["clones"], queryFn: () => told(api.GET("/clones")), refetchInterval: 60_000 });
  const [making, setMaking] = useState(false);
  const [leaving, setLeaving] = useState<Clone | null>(null);
  const [settling, setSettling] = useState<Clone | null>(null);
  const snapshot = useMutation({
    mutationFn: (name: string) =>
      told(api.POST("/clones/{name}/snapshots", { params: { path: { name } }, body: {}, headers: once() })),
  });
  const taken = useRun(snapshot.data?.id);
  const again = () => void queries.invalidateQueries({ queryKey: ["clones"] });
  const all = list.data ?? [];
  return (
    <section className="my-8">
      <h2 className="head border-b border-ink">Clones</h2>
      <Trouble error={list.error ?? snapshot.error ?? taken.error} />
      {all.length === 0 && !list.isPending && (
        <p className="py-2 text-sm text-faint">
          None. A clone is a writable copy of a moment on this site's host: made at once, and it takes room only for
          what is changed in it.
        </p>
      )}
      {all.map((c) => (
        <div key={c.name} className="flex flex-wrap items-baseline gap-x-4 border-b border-rule py-2 text-sm">
          <span className="font-semibold">{c.name}</span>
          <span className="min-w-0 grow basis-80">
            of{" "}
            <Link className="quiet" to={`/volumes/${encodeURIComponent(c.volume)}`}>
              {c.volume}
            </Link>{" "}
            as of {stamp(c.taken)}, {c.address ? "opened as" : "at"}{" "}
            <span className="font-mono break-all">{c.address || c.dir}</span>
            {!c.there && (
              <span className="text-hand"> ({c.address ? "cannot be opened" : "not mounted"} at present)</span>
            )}
          </span>
          <span className="text-faint">
            made {ago(c.made)}; {c.address ? "" : `${c.changed} changed, `}
            {size(c.bytes)}
            {c.until ? `; goes ${ago(c.until)}` : ""}
          </span>
          {c.drill ? (
            <Link className="quiet py-1" to={`/drills/${c.drill}`}>
              goes with its drill
            </Link>
          ) : (
            <>
              <button
                className="quiet"
                aria-label={`Take a snapshot of ${c.name}`}
                onClick={() => snapshot.mutate(c.name)}
                disabled={snapshot.isPending || (taken.data && !taken.data.ended)}
              >
                snapshot
              </button>
              <button className="quiet" aria-label={`Make ${c.name} a volume`} onClick={() => setSettling(c)}>
                make a volume
              </button>
              <button className="quiet" aria-label={`Discard ${c.name}`} onClick={() => setLeaving(c)}>
                discard
              </button>
            </>
          )}
        </div>
      ))}
      {taken.data && (
        <div aria-live="polite" className="py-2 text-sm">
          {taken.data.ended ? (
            <Link className="quiet" to={`/runs/${taken.data.id}`}>
              {taken.data.state}: {taken.data.outcome}
            </Link>
          ) : (
            <Progress run={taken.data} />
          )}
        </div>
      )}
      {volumes.length > 0 && (
        <button className="press mt-3" onClick={() => setMaking(true)}>
          Make a clone
        </button>
      )}
      {making && (
        <Make
          volumes={volumes}
          close={() => {
            setMaking(false);
            again();
          }}
        />
      )}
      {settling && (
        <MakeVolume
          clone={settling}
          close={() => {
            setSettling(null);
            again();
          }}
        />
      )}
      {leaving && (
        <Discard
          clone={leaving}
          close={() => {
            setLeaving(null);
            again();
          }}
        />
      )}
    </section>
  );
}

function Make({ volumes, close }: { volumes: string[]; close: () => void }) {
  const [name, setName] = useState("");
  const [volume, setVolume] = useState(volumes[0] ?? "");
  const [at, setAt] = useState("latest");
  const [dir, setDir] = useState("");
  const [days, setDays] = useState("7");
  const known = useQuery({ queryKey: ["volumes"], queryFn: () => told(api.GET("/volumes")) });
  const disk = known.data?.find((v) => v.name === volume)?.kind === "block";
  const [count, setCount] = useState("1");
  const make = useMutation({
    mutationFn: async () => {
      const body = {
        name,
        volume,
        at: at === "latest" ? at : new Date(at).toISOString(),
        ...(disk ? {} : { dir }),
        ...(Number(days) > 0 ? { until: new Date(Date.now() + Number(days) * 86400_000).toISOString() } : {}),
      };
      if (Number(count) > 1)
        await told(api.POST("/clones/many", { body: { ...body, count: Number(count) }, headers: once() }));
      else await told(api.POST("/clones", { body, headers: once() }));
    },
    onSuccess: close,
  });
  return (
    <Sheet title="Make a clone" open close={close}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          make.mutate();
        }}
      >
        <Field label="Name">
          <input className="field w-full" value={name} onChange={(e) => setName(e.target.value)} required />
        </Field>
        <Field label="Volume">
          <Pick label="Volume" value={volume} names={volumes} pick={setVolume} />
        </Field>
        <Field label="As of" help="latest, or a moment such as 2026-03-04 14:05.">
          <input className="field w-full font-mono" value={at} onChange={(e) => setAt(e.target.value)} required />
        </Field>
        {disk ? (
          <p className="my-3 text-sm">It is a disk: clients open the clone by its name.</p>
        ) : (
          <Field label="Directory" help="A new or empty directory of this site's host, below one of its roots.">
            <input className="field w-full font-mono" value={dir} onChange={(e) => setDir(e.target.value)} required />
          </Field>
        )}
        <Field label="How many" help="Of one snapshot. Several are numbered: NAME-1 at DIRECTORY-1, and so on.">
          <input
            className="field w-24"
            type="number"
            min={1}
            max={50}
            value={count}
            onChange={(e) => setCount(e.target.value)}
          />
        </Field>
        <Field label="Discard after days" help="Empty: by hand.">
          <input className="field w-full" inputMode="numeric" value={days} onChange={(e) => setDays(e.target.value)} />
        </Field>
        <Trouble error={make.error} />
        <div className="mt-3 flex gap-3">
          <button className="press" disabled={make.isPending}>
            Make it
          </button>
          <button type="button" className="quiet" onClick={close}>
            Not now
          </button>
        </div>
      </form>
    </Sheet>
  );
}

/** Lays a clone out in full in a directory of its own, as a volume. */
function MakeVolume({ clone, close }: { clone: Clone; close: () => void }) {
  const [to, setTo] = useState("");
  const make = useMutation({
    mutationFn: () =>
      told(
        api.POST("/clones/{name}/volume", {
          params: { path: { name: clone.name } },
          body: clone.address ? {} : { to },
          headers: once(),
        }),
      ),
  });
  const run = useRun(make.data?.id);
  return (
    <Sheet title={`Make ${clone.name} a volume of its own`} open close={close}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          make.mutate();
        }}
      >
        {clone.address && (
          <p className="my-3 text-sm">
            It becomes the volume {clone.name} at once and where it is; its clients notice nothing. What was written to
            it alone takes room. A first snapshot is taken.
          </p>
        )}
        <p className="my-3 text-sm" hidden={!!clone.address}>
          Its present state is taken as a snapshot and laid out in full in a new directory, as the volume {clone.name},
          which is protected there from then on; the clone is gone. It takes all its room then. What is changed in it
          meanwhile does not come along.
        </p>
        {!make.data && !clone.address && (
          <Field label="Directory" help="A new or empty one of this site's host, below one of its roots.">
            <input className="field w-full font-mono" value={to} onChange={(e) => setTo(e.target.value)} required />
          </Field>
        )}
        <Trouble error={make.error ?? run.error} />
        {run.data && (
          <div aria-live="polite" className="my-3">
            {run.data.ended ? (
              <p className={`font-say ${worked(run.data) ? "" : "text-hand"}`}>
                {run.data.state}: {run.data.outcome}
              </p>
            ) : (
              <Progress run={run.data} />
            )}
          </div>
        )}
        <div className="mt-3 flex gap-3">
          {!make.data && (
            <button className="press" disabled={make.isPending}>
              Make it a volume
            </button>
          )}
          <button type="button" className="quiet" onClick={close}>
            {make.data ? "Close" : "Not now"}
          </button>
        </div>
      </form>
      <ByCommand
        lines={[`candid clone make-volume ${word(clone.name)}${clone.address ? "" : ` --to ${word(to || "DIR")}`}`]}
      />
    </Sheet>
  );
}

function Discard({ clone, close }: { clone: Clone; close: () => void }) {
  const changed = clone.address ? clone.bytes > 0 : clone.changed > 0;
  const [typed, setTyped] = useState("");
  const [anyway, setAnyway] = useState(false);
  const discard = useMutation({
    mutationFn: () =>
      told(
        api.DELETE("/clones/{name}", { params: { path: { name: clone.name }, query: { anyway } }, headers: once() }),
      ),
    onSuccess: close,
  });
  return (
    <Sheet title={`Discard ${clone.name}`} open close={close}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          discard.mutate();
        }}
      >
        <p className="my-3 text-sm">
          {!changed
            ? "Nothing was changed in it."
            : clone.address
              ? `What was written to it is gone for good, ${size(clone.bytes)}.`
              : `What was changed in it is gone for good: ${many(clone.changed, "name")}, ${size(clone.bytes)}.`}{" "}
          The snapshot that it stands on goes as the rules say.
        </p>
        {changed && (
          <Field label={`Type ${clone.name} to go on`}>
            <input className="field w-full" value={typed} onChange={(e) => setTyped(e.target.value)} />
          </Field>
        )}
        {discard.error && (
          <label className="block text-sm">
            <input type="checkbox" checked={anyway} onChange={(e) => setAnyway(e.target.checked)} /> also when someone
            has something in it open: they lose it
          </label>
        )}
        <Trouble error={discard.error} />
        <div className="mt-3 flex gap-3">
          <button className="press press-hand" disabled={discard.isPending || (changed && typed !== clone.name)}>
            Discard it
          </button>
          <button type="button" className="quiet" onClick={close}>
            Not now
          </button>
        </div>
      </form>
    </Sheet>
  );
}
