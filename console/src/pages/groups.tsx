import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";

import { api, once, type Schemas, told } from "../api/client";
import { asThey, ChooseField } from "../parts/choose";
import { Described } from "../parts/described";
import { Field, Sheet, Trouble } from "../parts/ui";
import { stamp } from "../parts/times";
import { ago } from "../parts/words";
import { TogetherSheet } from "./grouprestore";

type Group = Schemas["Group"];

/** Volumes that are taken as one set. */
export function Groups({ volumes }: { volumes: string[] }) {
  const queries = useQueryClient();
  const list = useQuery({ queryKey: ["groups"], queryFn: () => told(api.GET("/groups")) });
  const [editing, setEditing] = useState<Group | null>(null);
  const [removing, setRemoving] = useState<Group | null>(null);
  const [back, setBack] = useState("");
  const remove = useMutation({
    mutationFn: (name: string) => told(api.DELETE("/groups/{name}", { params: { path: { name } }, headers: once() })),
    onSuccess: () => {
      setRemoving(null);
      void queries.invalidateQueries();
    },
  });
  const groups = list.data ?? [];
  return (
    <section className="my-8" aria-labelledby="groups">
      <div className="flex flex-wrap items-baseline gap-4 border-b border-ink">
        <h2 id="groups" className="head">
          Groups
        </h2>
        <span className="text-sm text-faint">
          Volumes that belong together are taken as one set: all of it is there, or none.
        </span>
        {volumes.length > 1 && (
          <button className="quiet ml-auto text-sm" onClick={() => setEditing({ name: "", volumes: [], waiting: [] })}>
            Make a group
          </button>
        )}
      </div>
      <Trouble error={list.error} />
      {list.data && groups.length === 0 && (
        <p className="py-2 text-sm text-faint">
          None yet. A database and the files that it speaks of are a reason for one.
        </p>
      )}
      {groups.map((g) => (
        <div key={g.name} className="border-b border-rule py-2 text-sm">
          <p className="flex flex-wrap items-baseline gap-x-3">
            <span className="font-semibold">{g.name}</span>
            <span>
              {(g.volumes ?? []).map((v, i) => (
                <span key={v}>
                  {i > 0 && ", "}
                  <Link className="quiet" to={`/volumes/${encodeURIComponent(v)}`}>
                    {v}
                  </Link>
                </span>
              ))}
            </span>
            <Described kind="group" name={g.name} text={g.description} />
            <span className="ml-auto flex gap-4">
              <button className="quiet" onClick={() => setBack(g.name)}>
                bring back together
              </button>
              <button className="quiet" onClick={() => setEditing(g)}>
                change
              </button>
              <button className="quiet" onClick={() => setRemoving(g)}>
                dissolve
              </button>
            </span>
          </p>
          <p className="text-faint">
            {g.freeze
              ? `Writers are held by ${g.freeze}${g.thaw ? ` and let go by ${g.thaw}` : ""}; if that fails, ` +
                (g.failing === "spread" ? "a spread set is taken." : "no set is taken.")
              : "Writers are held as the volumes' policies say."}{" "}
            {g.newest?.[0] ? (
              <span title={stamp(g.newest[0].taken, true)}>
                Newest set {ago(g.newest[0].taken)}, {g.newest[0].consistency}.
              </span>
            ) : (
              "No set yet."
            )}
          </p>
          {(g.waiting ?? []).length > 0 && (
            <p className="border-l-4 border-hand pl-3">
              It waits: {(g.waiting ?? []).join(", ")} paused, and a set is whole or not at all.
            </p>
          )}
        </div>
      ))}
      {back && <TogetherSheet group={back} close={() => setBack("")} />}
      {editing && <GroupSheet group={editing} volumes={volumes} close={() => setEditing(null)} />}
      <Sheet title={`Dissolve ${removing?.name ?? ""}`} open={!!removing} close={() => setRemoving(null)}>
        <p>
          {(removing?.volumes ?? []).join(", ")} are taken each for itself from then on. Sets that there are stay sets.
        </p>
        <Trouble error={remove.error} />
        <div className="mt-4 flex gap-3">
          <button
            className="press press-hand"
            disabled={remove.isPending}
            onClick={() => removing && remove.mutate(removing.name)}
          >
            Dissolve it
          </button>
          <button className="quiet" onClick={() => setRemoving(null)}>
            Not now
          </button>
        </div>
      </Sheet>
    </section>
  );
}

function GroupSheet({ group, volumes, close }: { group: Group; volumes: string[]; close: () => void }) {
  const queries = useQueryClient();
  const hooks = useQuery({ queryKey: ["hooks"], queryFn: () => told(api.GET("/hooks")) });
  const [name, setName] = useState(group.name);
  const [picked, setPicked] = useState(group.volumes ?? []);
  const [freeze, setFreeze] = useState(group.freeze ?? "");
  const [thaw, setThaw] = useState(group.thaw ?? "");
  const [failing, setFailing] = useState<"stop" | "spread">(group.failing === "spread" ? "spread" : "stop");
  const put = useMutation({
    mutationFn: () =>
      told(
        api.PUT("/groups/{name}", {
          params: { path: { name } },
          headers: once(),
          body: {
            volumes: picked,
            dropHooks: !!group.name,
            ...(freeze ? { freeze, failing, ...(thaw ? { thaw } : {}) } : {}),
          },
        }),
      ),
    onSuccess: () => {
      void queries.invalidateQueries();
      close();
    },
  });
  const known = hooks.data ?? [];
  const choose = (label: string, value: string, set: (v: string) => void, none: string) => (
    <ChooseField
      label={label}
      help={known.find((h) => h.name === value)?.command ?? ""}
      value={value}
      options={[{ value: "", label: none }, ...asThey(known.map((h) => h.name))]}
      choose={set}
    />
  );
  return (
    <Sheet title={group.name ? `Change ${group.name}` : "Make a group"} open close={close}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          put.mutate();
        }}
      >
        {!group.name && (
          <Field label="Name" help="Lower-case letters, digits and dashes.">
            <input className="field w-full" value={name} onChange={(e) => setName(e.target.value)} required />
          </Field>
        )}
        <fieldset className="my-3">
          <legend className="text-sm font-semibold">Volumes</legend>
          {volumes.map((v) => (
            <label key={v} className="mr-5 inline-flex items-baseline gap-2 text-sm">
              <input
                type="checkbox"
                checked={picked.includes(v)}
                onChange={() => setPicked((old) => (old.includes(v) ? old.filter((x) => x !== v) : [...old, v]))}
              />
              {v}
            </label>
          ))}
        </fieldset>
        {known.length === 0 ? (
          <p className="text-sm text-faint">
            Hooks that hold writers while the volumes are read are defined under hooks in site.yaml; there are none yet.
          </p>
        ) : (
          <>
            {choose("Before reading, hold writers by", freeze, setFreeze, "nothing of the group's own")}
            {freeze && choose("Afterwards let them go by", thaw, setThaw, "nothing")}
            {freeze && (
              <ChooseField
                label="If they cannot be held"
                value={failing}
                options={[
                  { value: "stop", label: "take no set" },
                  { value: "spread", label: "take one nevertheless, as spread" },
                ]}
                choose={setFailing}
              />
            )}
          </>
        )}
        <Trouble error={put.error} />
        <div className="mt-4 flex gap-3">
          <button className="press" disabled={put.isPending || picked.length < 2}>
            {group.name ? "Change it" : "Make it"}
          </button>
          <button type="button" className="quiet" onClick={close}>
            Not now
          </button>
        </div>
      </form>
    </Sheet>
  );
}
