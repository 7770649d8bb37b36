import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { api, once, told } from "../api/client";
import { Field, Sheet, Trouble } from "../parts/ui";
import { size } from "../parts/words";

/** Disks of this site that hold copies of their own, and come and go. */
export function Places() {
  const queries = useQueryClient();
  const list = useQuery({ queryKey: ["sites", "places"], queryFn: () => told(api.GET("/places")) });
  const [open, setOpen] = useState(false);
  const [name, setName] = useState("");
  const [path, setPath] = useState("");
  const after = () => {
    void queries.invalidateQueries();
    setOpen(false);
  };
  const attach = useMutation({
    mutationFn: (p: { name: string; path: string }) =>
      told(api.PUT("/places/{name}", { params: { path: { name: p.name } }, body: { path: p.path }, headers: once() })),
    onSuccess: after,
  });
  const detach = useMutation({
    mutationFn: (n: string) =>
      told(api.POST("/places/{name}/detach", { params: { path: { name: n } }, headers: once() })),
    onSuccess: after,
  });
  const places = list.data ?? [];
  return (
    <section aria-labelledby="places" className="mt-8">
      <div className="flex items-baseline border-b border-ink">
        <h2 id="places" className="head">
          Disks of this site
        </h2>
        <button
          className="quiet ml-auto text-sm"
          onClick={() => {
            attach.reset();
            setOpen(true);
          }}
        >
          attach one
        </button>
      </div>
      {places.length === 0 && (
        <p className="py-2 text-sm text-faint">
          None. A disk can hold copies by rules of its own, be taken away, and come back.
        </p>
      )}
      {places.map((p) => (
        <p key={p.name} className="flex flex-wrap items-baseline gap-x-4 border-b border-rule py-2">
          <strong>{p.name}</strong>
          <span>
            {p.attached ? `${p.snapshots} snapshots, ${size(p.storedBytes)}; ${size(p.freeBytes)} free` : "detached"}
          </span>
          <span className="font-mono text-sm text-faint">{p.path}</span>
          {p.attached ? (
            <button className="quiet ml-auto text-sm" onClick={() => detach.mutate(p.name)} disabled={detach.isPending}>
              detach
            </button>
          ) : (
            <button
              className="quiet ml-auto text-sm"
              onClick={() => attach.mutate({ name: p.name, path: p.path })}
              disabled={attach.isPending}
            >
              attach again
            </button>
          )}
        </p>
      ))}
      {detach.data && (
        <p className="my-2 font-say" role="status">
          {detach.data.sentence}
        </p>
      )}
      {!open && <Trouble error={attach.error ?? detach.error} />}
      <Sheet title="Attach a disk" open={open} close={() => setOpen(false)}>
        <form
          onSubmit={(e) => {
            e.preventDefault();
            attach.mutate({ name, path });
          }}
        >
          <Field label="Name" help="Policies name it under keep, like a far site.">
            <input
              className="field w-full"
              value={name}
              onChange={(e) => setName(e.target.value)}
              placeholder="shelf-disk"
              required
            />
          </Field>
          <Field
            label="Directory on the host"
            help="An empty one becomes a new place; one that was a place before has all that it held."
          >
            <input
              className="field w-full font-mono text-sm"
              value={path}
              onChange={(e) => setPath(e.target.value)}
              required
            />
          </Field>
          <Trouble error={attach.error} />
          <button className="press" disabled={attach.isPending}>
            Attach it
          </button>
        </form>
      </Sheet>
    </section>
  );
}
