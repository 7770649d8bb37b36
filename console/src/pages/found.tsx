import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { api, once, type Schemas, told } from "../api/client";
import { Field, Sheet, Trouble, Waiting } from "../parts/ui";
import { shownZone, stamp } from "../parts/times";
import { size } from "../parts/words";

type Moment = Schemas["FoundMoment"];

/** Point-in-time directories that the filesystem or another tool left of a volume. */
export function Found({ volume }: { volume: string }) {
  const queries = useQueryClient();
  const list = useQuery({
    queryKey: ["found", volume],
    queryFn: () => told(api.GET("/volumes/{name}/found", { params: { path: { name: volume } } })),
  });
  const [looking, setLooking] = useState<Moment | null>(null);
  const [setting, setSetting] = useState(false);
  const [pattern, setPattern] = useState("");
  const again = () => {
    void queries.invalidateQueries({ queryKey: ["found", volume] });
    void queries.invalidateQueries({ queryKey: ["timeline"] });
  };
  const put = useMutation({
    mutationFn: () =>
      told(
        api.PUT("/volumes/{name}/found", {
          params: { path: { name: volume } },
          body: { pattern, zone: shownZone() },
          headers: once(),
        }),
      ),
    onSuccess: () => {
      setSetting(false);
      again();
    },
  });
  const take = useMutation({
    mutationFn: async () => {
      const r = await told(
        api.POST("/volumes/{name}/found/take", { params: { path: { name: volume } }, body: {}, headers: once() }),
      );
      return told(api.GET("/runs/{id}", { params: { path: { id: r.id }, query: { wait: 60 } } }));
    },
    onSuccess: again,
  });
  const all = list.data?.items ?? [];
  return (
    <section className="my-5 text-sm">
      <h2 className="head border-b border-ink">Left by others</h2>
      <Trouble error={list.error ?? take.error} />
      {all.slice(0, 12).map((m) => (
        <p key={m.name} className="flex items-baseline gap-3 border-b border-rule py-1">
          <button className="quiet text-left" onClick={() => setLooking(m)}>
            {stamp(m.taken)}
          </button>
          <span className="ml-auto text-faint">{m.snapshot ? "taken over" : "found"}</span>
        </p>
      ))}
      {all.length > 12 && <p className="py-1 text-faint">and {all.length - 12} older ones</p>}
      {take.data && <p className="py-1 font-say">{take.data.outcome}</p>}
      <p className="flex flex-wrap gap-3 py-2">
        {all.some((m) => m.canTake) && (
          <button className="press" onClick={() => take.mutate()} disabled={take.isPending}>
            Take them into the history
          </button>
        )}
        <button
          className="quiet"
          onClick={() => {
            setPattern(list.data?.pattern ?? "");
            setSetting(true);
          }}
        >
          {list.data?.pattern ? "change where they lie" : "say where others leave such directories"}
        </button>
      </p>
      <Sheet title="Point-in-time directories of others" open={setting} close={() => setSetting(false)}>
        <Field
          label="Path with a time in it"
          help={
            "%Y, %m, %d, %H, %M and %S stand for the time, * for anything: " +
            "/srv/shares/.moments/daily-%Y-%m-%d. Empty: nowhere."
          }
        >
          <input className="field w-full font-mono" value={pattern} onChange={(e) => setPattern(e.target.value)} />
        </Field>
        <Trouble error={put.error} />
        <div className="mt-3 flex gap-3">
          <button className="press" onClick={() => put.mutate()} disabled={put.isPending}>
            Look there
          </button>
          <button className="quiet" onClick={() => setSetting(false)}>
            Not now
          </button>
        </div>
      </Sheet>
      {looking && <Look volume={volume} moment={looking} close={() => setLooking(null)} />}
    </section>
  );
}

function Look({ volume, moment, close }: { volume: string; moment: Moment; close: () => void }) {
  const [path, setPath] = useState("");
  const dir = useQuery({
    queryKey: ["found", volume, moment.name, path],
    queryFn: () =>
      told(
        api.GET("/volumes/{name}/found/browse", {
          params: { path: { name: volume }, query: { found: moment.name, path } },
        }),
      ),
  });
  const back = useMutation({
    mutationFn: async (p: string) => {
      const r = await told(
        api.POST("/restores", {
          body: { volume, found: moment.name, paths: [p], inPlace: true, onConflict: "skip" },
          headers: once(),
        }),
      );
      return told(api.GET("/runs/{id}", { params: { path: { id: r.id }, query: { wait: 60 } } }));
    },
  });
  const full = (name: string) => (path ? `${path}/${name}` : name);
  return (
    <Sheet title={`${volume} as others left it ${stamp(moment.taken)}`} open close={close} wide>
      <p className="text-sm">
        {path && (
          <button
            className="quiet"
            onClick={() => setPath(path.includes("/") ? path.slice(0, path.lastIndexOf("/")) : "")}
          >
            up
          </button>
        )}{" "}
        <span className="font-mono">
          {moment.path}/{path}
        </span>
      </p>
      <Trouble error={dir.error ?? back.error} />
      {dir.isPending && <Waiting what="files" />}
      <ul className="my-2 max-h-80 overflow-y-auto text-sm" tabIndex={0} aria-label="Files">
        {(dir.data?.entries ?? []).map((e) => (
          <li key={e.name} className="flex flex-wrap items-baseline gap-4 border-b border-rule py-1">
            {e.kind === "directory" ? (
              <button className="quiet text-left" onClick={() => setPath(full(e.name))}>
                {e.name}/
              </button>
            ) : (
              <span>{e.name}</span>
            )}
            <span className="ml-auto text-faint">
              {e.kind === "file" ? size(e.size) : e.kind}, {stamp(e.modified)}
            </span>
            <button className="quiet" disabled={back.isPending} onClick={() => back.mutate(full(e.name))}>
              bring back what is missing
            </button>
          </li>
        ))}
      </ul>
      {back.data && (
        <p className="font-say" aria-live="polite">
          {back.data.state}: {back.data.outcome}
        </p>
      )}
      <p className="mt-3">
        <button className="quiet text-sm" onClick={close}>
          Close
        </button>
      </p>
    </Sheet>
  );
}
