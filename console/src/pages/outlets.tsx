import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { api, once, type Schemas, told } from "../api/client";
import { Buttons, Command, Field, Sheet, State, Trouble } from "../parts/ui";
import { stamp } from "../parts/times";
import { many, word } from "../parts/words";

type Outlet = Schemas["Outlet"];

/** Machines that do not run the service, where the newest states of volumes lie as plain files. */
export function Outlets() {
  const list = useQuery({
    queryKey: ["outlets"],
    queryFn: () => told(api.GET("/outlets")),
    refetchInterval: 30_000,
  });
  const [adding, setAdding] = useState(false);
  const all = list.data ?? [];
  return (
    <section aria-labelledby="outlets" className="my-6">
      <div className="flex flex-wrap items-baseline gap-3 border-b border-ink">
        <h2 id="outlets" className="head">
          Outlets
        </h2>
        <button className="quiet ml-auto text-sm" onClick={() => setAdding(true)}>
          open one
        </button>
      </div>
      <Trouble error={list.error} />
      {list.data && all.length === 0 && (
        <p className="py-2 text-sm text-faint">
          None. An outlet is a directory at a machine that does not run this service: the newest states of volumes lie
          there as plain files, by SFTP.
        </p>
      )}
      {all.map((o) => (
        <OutletRow key={o.name} outlet={o} />
      ))}
      {adding && <AddSheet close={() => setAdding(false)} />}
    </section>
  );
}

function OutletRow({ outlet: o }: { outlet: Outlet }) {
  const queries = useQueryClient();
  const [closing, setClosing] = useState(false);
  const params = { path: { name: o.name } };
  const onSuccess = () => queries.invalidateQueries({ queryKey: ["outlets"] });
  const run = useMutation({
    mutationFn: (verify: boolean) =>
      told(api.POST("/outlets/{name}/runs", { params: { ...params, query: { verify } }, headers: once() })),
    onSuccess,
  });
  const hold = useMutation({
    mutationFn: () =>
      o.pausedSince
        ? told(api.POST("/outlets/{name}/resume", { params, headers: once() }))
        : told(api.POST("/outlets/{name}/pause", { params, headers: once() })),
    onSuccess,
  });
  const volumes = o.volumes ?? [];
  const read = volumes.map((v) => v.verified).filter((v) => !!v);
  return (
    <div className="border-b border-rule py-2 text-sm" role="group" aria-label={`Outlet ${o.name}`}>
      <div className="flex flex-wrap items-baseline gap-x-4">
        <span className="font-semibold">{o.name}</span>
        <State word={o.state} />
        <span className="min-w-0 font-mono wrap-anywhere text-faint" title={o.hostKey}>
          {o.to}
        </span>
        <span className="ml-auto flex flex-wrap gap-4">
          <button className="quiet" onClick={() => run.mutate(false)} disabled={run.isPending || !!o.pausedSince}>
            lay out now
          </button>
          <button className="quiet" onClick={() => run.mutate(true)} disabled={run.isPending || !!o.pausedSince}>
            read back
          </button>
          <button className="quiet" onClick={() => hold.mutate()} disabled={hold.isPending}>
            {o.pausedSince ? "resume" : "pause"}
          </button>
          <button className="quiet" onClick={() => setClosing(true)}>
            close it
          </button>
        </span>
      </div>
      <p>{o.sentence}</p>
      <p className="text-faint">
        {many(volumes.length, "volume")}
        {volumes.length > 0 &&
          volumes.length <= 5 &&
          `: ${volumes.map((v) => (v.asOf ? `${v.volume} as of ${stamp(v.asOf)}` : v.volume)).join(", ")}`}
        {o.cap && `; at most ${o.cap}`}
        {volumes.length > 0 &&
          (read.length === volumes.length
            ? `; all read back since ${stamp(read.sort()[0]!)}`
            : `; ${read.length ? `only ${read.length}` : "none"} read back as a whole yet`)}
        .{(o.disks ?? []).length > 0 && ` Disks are not laid out as files: ${o.disks!.join(", ")}.`}
      </p>
      <Trouble error={run.error ?? hold.error} />
      {closing && <CloseSheet outlet={o} close={() => setClosing(false)} />}
    </div>
  );
}

function CloseSheet({ outlet: o, close }: { outlet: Outlet; close: () => void }) {
  const queries = useQueryClient();
  const end = useMutation({
    mutationFn: () => told(api.DELETE("/outlets/{name}", { params: { path: { name: o.name } }, headers: once() })),
    onSuccess: () => {
      void queries.invalidateQueries({ queryKey: ["outlets"] });
      close();
    },
  });
  return (
    <Sheet title={`Close the outlet ${o.name}`} open close={close}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          end.mutate();
        }}
      >
        <p className="text-sm">Nothing more is laid out there. What lies in {o.to} stays, as plain files.</p>
        <Trouble error={end.error} />
        <Buttons
          does="Close it"
          hand
          busy={end.isPending}
          close={close}
          command={`candid outlet remove ${word(o.name)}`}
        />
      </form>
    </Sheet>
  );
}

/** Opens an outlet. The key that the machine shows is compared by a person before anything is sent. */
function AddSheet({ close }: { close: () => void }) {
  const queries = useQueryClient();
  const own = useQuery({ queryKey: ["outlet-key"], queryFn: () => told(api.GET("/outlet-key")) });
  const [name, setName] = useState("");
  const [to, setTo] = useState("");
  const [volumes, setVolumes] = useState("");
  const [cap, setCap] = useState("");
  const [key, setKey] = useState("");
  const [good, setGood] = useState(false);
  const parts = volumes.split(/[\s,]+/).filter(Boolean);
  const names = parts.filter((p) => p.startsWith("name=")).map((p) => p.slice(5));
  const labels = Object.fromEntries(
    parts.filter((p) => !p.startsWith("name=")).map((p) => p.split("=", 2) as [string, string]),
  );
  const add = useMutation({
    mutationFn: () =>
      told(
        api.POST("/outlets", {
          body: { name, to, names, labels, cap: cap || undefined, hostKey: key },
          headers: once(),
        }),
      ),
    onSuccess: () => {
      void queries.invalidateQueries({ queryKey: ["outlets"] });
      close();
    },
  });
  const look = useMutation({
    mutationFn: () => told(api.POST("/outlet-host-key", { body: { to } })),
    onSuccess: (shown) => {
      setKey(shown.hostKey);
      setGood(false);
    },
  });
  const asks = !!key && !good;
  return (
    <Sheet title="Open an outlet" open close={close}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          if (key) add.mutate();
          else look.mutate();
        }}
      >
        <div className="my-3 text-sm">
          <span className="block font-semibold">What lets this site in there</span>
          {own.data && <Command text={own.data.line} />}
          <span className="block text-faint">A line for authorized_keys of the user there. It allows files alone.</span>
        </div>
        <Trouble error={own.error} />
        <Field label="Name">
          <input className="field w-full" value={name} onChange={(e) => setName(e.target.value)} required />
        </Field>
        <Field label="Address" help="Each volume lies in a directory of its name below this one.">
          <input
            className="field w-full font-mono"
            value={to}
            onChange={(e) => {
              setTo(e.target.value);
              setKey("");
            }}
            placeholder="sftp://copies@nas.example/srv/larkfield"
            required
          />
        </Field>
        <Field label="Volumes" help="Labels that must all match, as key=value; or name=VOLUME.">
          <input
            className="field w-full"
            value={volumes}
            onChange={(e) => setVolumes(e.target.value)}
            placeholder="collection=herbarium"
            required
          />
        </Field>
        <Field label="At most" help="What is sent at most, such as 5 MiB/s; empty: as fast as it goes.">
          <input className="field" value={cap} onChange={(e) => setCap(e.target.value)} />
        </Field>
        {key && (
          <div className="my-3 border-l-4 border-now bg-sheet px-3 py-2 text-sm" role="status">
            The machine shows the key <span className="font-mono wrap-anywhere">{key}</span>. Compare it there, with
            ssh-keygen -lf, before anything is sent.
            <label className="mt-2 flex items-baseline gap-2">
              <input type="checkbox" checked={good} onChange={(e) => setGood(e.target.checked)} />
              It is the machine's key
            </label>
          </div>
        )}
        <Trouble error={add.error ?? look.error} />
        <Buttons
          does={key ? "Open it" : "See which key it shows"}
          busy={add.isPending || look.isPending || asks}
          close={close}
          command={[
            `candid outlet add ${word(name || "NAME")} ${to ? word(to) : "sftp://USER@HOST/DIR"}`,
            ...parts.map((p) => `--volumes ${word(p)}`),
            cap && `--cap ${word(cap)}`,
            key && `--host-key ${key}`,
          ]
            .filter(Boolean)
            .join(" ")}
        />
      </form>
    </Sheet>
  );
}
