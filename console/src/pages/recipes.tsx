import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";

import { api, once, type Schemas, told } from "../api/client";
import { asThey, ChooseField } from "../parts/choose";
import { Pick } from "../parts/pick";
import { Field, Sheet, State, Trouble } from "../parts/ui";
import { shownZone, stamp } from "../parts/times";
import { ago, size, span } from "../parts/words";
import { TrialSchedule } from "./trialschedule";
import { Wide } from "../parts/wide";

type Recipe = Schemas["Recipe"];

/** Saved restores: what each does, when next, how the last run went. */
export function Recipes({ volumes }: { volumes: string[] }) {
  const queries = useQueryClient();
  const list = useQuery({ queryKey: ["recipes"], queryFn: () => told(api.GET("/recipes")), refetchInterval: 30_000 });
  const [saving, setSaving] = useState<Recipe | "new" | null>(null);
  const [leaving, setLeaving] = useState("");
  const again = () => void queries.invalidateQueries({ queryKey: ["recipes"] });
  const run = useMutation({
    mutationFn: (name: string) =>
      told(api.POST("/recipes/{name}/runs", { params: { path: { name } }, headers: once() })),
    onSuccess: again,
  });
  const remove = useMutation({
    mutationFn: (name: string) => told(api.DELETE("/recipes/{name}", { params: { path: { name } }, headers: once() })),
    onSuccess: () => {
      setLeaving("");
      again();
    },
  });
  const all = list.data ?? [];
  return (
    <section className="my-8">
      <h2 className="head border-b border-ink">Saved restores</h2>
      <Trouble error={list.error ?? run.error} />
      {all.length === 0 && !list.isPending && (
        <p className="py-2 text-sm text-faint">
          None. A restore that is done again and again, such as the nightly refresh of a test copy, is saved under a
          name.
        </p>
      )}
      {all.map((r) => {
        const last = r.runs?.[0];
        return (
          <div key={r.name} className="flex flex-wrap items-baseline gap-x-4 border-b border-rule py-2 text-sm">
            <span className="font-semibold">{r.name}</span>
            <span className="min-w-0 grow basis-80">{r.sentence}</span>
            <span className="text-faint">{r.nextDue ? `next ${ago(r.nextDue)}` : ""}</span>
            {last && (
              <Link className="quiet" to={`/runs/${last.id}`} title={last.outcome}>
                <State word={last.state} /> {stamp(last.queued)}
              </Link>
            )}
            <button className="quiet" onClick={() => run.mutate(r.name)} disabled={run.isPending}>
              run now
            </button>
            <button className="quiet" onClick={() => setSaving(r)}>
              change
            </button>
            <button className="quiet" onClick={() => setLeaving(r.name)}>
              remove
            </button>
          </div>
        );
      })}
      {volumes.length > 0 && (
        <button className="press mt-3" onClick={() => setSaving("new")}>
          Save a restore
        </button>
      )}
      {saving && (
        <Save
          old={saving === "new" ? null : saving}
          volumes={volumes}
          close={() => {
            setSaving(null);
            again();
          }}
        />
      )}
      <Sheet title={`Remove ${leaving}`} open={leaving !== ""} close={() => setLeaving("")}>
        <p className="my-3 text-sm">It is not carried out any more. What it brought back stays where it is.</p>
        <Trouble error={remove.error} />
        <div className="flex gap-3">
          <button className="press" onClick={() => remove.mutate(leaving)} disabled={remove.isPending}>
            Remove it
          </button>
          <button className="quiet" onClick={() => setLeaving("")}>
            Not now
          </button>
        </div>
      </Sheet>
    </section>
  );
}

function Save({ old, volumes, close }: { old: Recipe | null; volumes: string[]; close: () => void }) {
  const hooks = useQuery({ queryKey: ["hooks"], queryFn: () => told(api.GET("/hooks")) });
  const [name, setName] = useState(old?.name ?? "");
  const [volume, setVolume] = useState(old?.restore.volume ?? volumes[0] ?? "");
  const [paths, setPaths] = useState((old?.restore.paths ?? []).join("\n"));
  const [at, setAt] = useState(old?.restore.at ?? "latest");
  const [to, setTo] = useState(old?.restore.to ?? "");
  const [into, setInto] = useState(old?.restore.into ?? "");
  const [disconnect, setDisconnect] = useState(old?.restore.disconnect ?? false);
  const [exact, setExact] = useState(old?.exact ?? false);
  const [when, setWhen] = useState(old?.when ?? "");
  const [check, setCheck] = useState(old?.check ?? "");
  const clean: Schemas["RecipePut"] = {
    restore: {
      ...old?.restore,
      volume,
      at,
      paths: paths.split("\n").filter(Boolean),
      to: into ? "" : to,
      into,
      inPlace: !to && !into,
      disconnect,
    },
    exact,
    when,
    check,
    zone: old?.zone ?? shownZone(),
  };
  const save = useMutation({
    mutationFn: () =>
      told(
        old
          ? api.PUT("/recipes/{name}", { params: { path: { name } }, body: clean, headers: once() })
          : api.POST("/recipes/{name}", { params: { path: { name } }, body: clean, headers: once() }),
      ),
    onSuccess: close,
  });
  return (
    <Sheet title={old ? `Change ${old.name}` : "Save a restore"} open close={close} wide>
      <form
        className="grid gap-x-6 sm:grid-cols-2"
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate();
        }}
      >
        <Field label="Name">
          <input
            className="field w-full"
            value={name}
            onChange={(e) => setName(e.target.value)}
            disabled={!!old}
            required
          />
        </Field>
        <Field label="Volume">
          <Pick label="Volume" value={volume} names={volumes} pick={setVolume} />
        </Field>
        <Field label="As of" help="latest, a moment, or how long before each run: -24h, -7d.">
          <input className="field w-full font-mono" value={at} onChange={(e) => setAt(e.target.value)} required />
        </Field>
        <Field label="To the directory" help="Below one of the site's roots. Empty: in place, after a safety snapshot.">
          <input
            className="field w-full font-mono"
            value={into ? "" : to}
            onChange={(e) => setTo(e.target.value)}
            disabled={!!into}
          />
        </Field>
        <Field label="Into the volume" help="Another one, which becomes as this one was; of a disk another disk.">
          <Pick
            label="Into the volume"
            value={into}
            names={volumes.filter((v) => v !== volume)}
            none="none"
            pick={setInto}
          />
        </Field>
        <Field label="Paths" help="One on each line; empty: the whole volume.">
          <textarea
            className="field w-full font-mono"
            rows={2}
            value={paths}
            onChange={(e) => setPaths(e.target.value)}
          />
        </Field>
        <Field label="When" help="A cadence, such as daily at 02:30; empty: only when asked for.">
          <input className="field w-full" value={when} onChange={(e) => setWhen(e.target.value)} />
        </Field>
        <ChooseField
          label="Checked by the hook"
          value={check}
          options={[{ value: "", label: "none" }, ...asThey((hooks.data ?? []).map((h) => h.name))]}
          choose={setCheck}
        />
        <label className="my-3 block text-sm">
          <input type="checkbox" checked={exact} onChange={(e) => setExact(e.target.checked)} /> keep the directory
          exactly as the snapshot: what is not in it goes
        </label>
        <label className="my-3 block text-sm">
          <input type="checkbox" checked={disconnect} onChange={(e) => setDisconnect(e.target.checked)} /> disconnect
          the clients of a disk first: they lose what they did not flush
        </label>
        <div className="sm:col-span-2">
          <Trouble error={save.error} />
          <div className="mt-3 flex gap-3">
            <button className="press" disabled={save.isPending}>
              Save
            </button>
            <button type="button" className="quiet" onClick={close}>
              Not now
            </button>
          </div>
        </div>
      </form>
    </Sheet>
  );
}

/** Restores that were tried: random files of a random moment, compared with what was recorded. */
export function Trials({ mayTry }: { mayTry: boolean }) {
  const queries = useQueryClient();
  const [planning, setPlanning] = useState(false);
  const list = useQuery({ queryKey: ["trials"], queryFn: () => told(api.GET("/trials")) });
  const again = () => void queries.invalidateQueries({ queryKey: ["trials"] });
  const now = useMutation({
    mutationFn: async () => {
      const runs = await told(api.POST("/trials", { body: {}, headers: once() }));
      for (const r of runs ?? [])
        await told(api.GET("/runs/{id}", { params: { path: { id: r.id }, query: { wait: 60 } } }));
    },
    onSettled: again,
  });
  const all = list.data?.last ?? [];
  return (
    <section className="my-8">
      <h2 className="head border-b border-ink">Restores that were tried</h2>
      <Trouble error={list.error ?? now.error} />
      <p className="py-2 text-sm">
        {list.data?.nextDue
          ? `Random files of random moments are brought back to scratch space ${list.data.when} ` +
            `and compared with what was recorded; next ${ago(list.data.nextDue)}.`
          : "Nothing is tried by itself."}
      </p>
      {all.length > 0 && (
        <Wide label="Recipes">
          <table className="plain">
            <thead>
              <tr>
                <th scope="col">Volume</th>
                <th scope="col">At</th>
                <th scope="col">Result</th>
                <th scope="col" className="hidden sm:table-cell">
                  Tried
                </th>
                <th scope="col" className="hidden text-right! sm:table-cell">
                  Files
                </th>
                <th scope="col" className="hidden text-right! sm:table-cell">
                  Bytes
                </th>
                <th scope="col">All of it in about</th>
              </tr>
            </thead>
            <tbody>
              {all.map((t) => (
                <tr key={t.volume + t.site}>
                  <td>
                    {t.run ? (
                      <Link className="quiet" to={`/runs/${t.run}`}>
                        {t.volume}
                      </Link>
                    ) : (
                      t.volume
                    )}
                  </td>
                  <td>{t.site}</td>
                  <td title={t.sentence}>
                    {t.good ? "came back whole" : <span className="font-semibold text-hand">not whole</span>}
                  </td>
                  <td className="hidden whitespace-nowrap sm:table-cell">
                    {stamp(t.at)}, as of {stamp(t.taken)}
                  </td>
                  <td className="hidden text-right sm:table-cell">{t.files || "–"}</td>
                  <td className="hidden text-right sm:table-cell">{size(t.bytes)}</td>
                  <td>
                    {span(t.wholeSeconds)}
                    {t.objectiveSeconds ? (
                      <span className={t.wholeSeconds > t.objectiveSeconds ? "text-hand" : "text-faint"}>
                        {" "}
                        of {span(t.objectiveSeconds)} allowed
                      </span>
                    ) : null}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </Wide>
      )}
      {mayTry && (
        <button className="press mt-3" onClick={() => now.mutate()} disabled={now.isPending}>
          {now.isPending ? "Trying …" : "Try all now"}
        </button>
      )}
      {list.data && (
        <button className="quiet mt-3 ml-4 min-h-6 text-sm" onClick={() => setPlanning(true)}>
          {list.data.nextDue ? "change when" : "have them tried by themselves"}
        </button>
      )}
      {planning && list.data && <TrialSchedule now={list.data} close={() => setPlanning(false)} />}
    </section>
  );
}
