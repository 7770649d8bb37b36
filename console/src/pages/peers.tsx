import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { api, once, type Schemas, told } from "../api/client";
import { Described } from "../parts/described";
import { Field, Sheet, Trouble } from "../parts/ui";
import { stamp } from "../parts/times";
import { ago, size } from "../parts/words";
import { Addresses } from "./addresses";

type Peer = Schemas["Peer"];
type Grant = "offer" | "read" | "see" | "configure" | "take-over";

const grants: [Grant, string][] = [
  ["offer", "bring snapshots into this place"],
  ["read", "take snapshots of the volumes chosen below"],
  ["see", "look at everything here but contents"],
  ["configure", "do here what a person may do"],
  ["take-over", "become the active site of the volumes here"],
];

/** By which way it is spoken to, where there are several. */
function lineOf(p: Peer) {
  if (!p.line || (p.ownAddresses ?? []).length + (p.addresses ?? []).length < 2) return "line up";
  return p.line.dialled ? `line by ${p.line.address}` : `line from ${p.line.address}`;
}

/** A paired site: its line, what each may do at the other's, the pace towards it. */
export function PeerRow({ peer: p }: { peer: Peer }) {
  const [open, setOpen] = useState<"" | "grants" | "pace" | "addresses">("");
  const check = useMutation({
    mutationFn: () => told(api.POST("/sites/{name}/check", { params: { path: { name: p.name } } })),
  });
  return (
    <section aria-label={p.name} className="border-b border-rule py-2">
      <div className="flex flex-wrap items-baseline gap-x-4">
        <h3 className="font-semibold capitalize">{p.name}</h3>
        <span className={p.up ? "" : "text-hand font-semibold"}>
          <span aria-hidden>{p.up ? "– " : "▲ "}</span>
          {p.up ? lineOf(p) : `no line${p.seen ? `, last seen ${ago(p.seen)}` : ""}`}
        </span>
        <span className="font-mono text-sm text-faint" title={p.key}>
          {[...(p.ownAddresses ?? []), ...(p.addresses ?? [])].join(", ")} · key {p.key.slice(0, 12)}…
          {p.release && ` · build of ${p.release}`}
        </span>
        <span className="ml-auto flex gap-4 text-sm">
          <button className="quiet" onClick={() => check.mutate()}>
            {check.isPending ? "testing …" : "test"}
          </button>
          {!(p.addresses ?? [])[0]?.startsWith("place:") && (
            <button className="quiet" onClick={() => setOpen("addresses")}>
              addresses
            </button>
          )}
          <button className="quiet" onClick={() => setOpen("grants")}>
            grants
          </button>
          <button className="quiet" onClick={() => setOpen("pace")}>
            pace
          </button>
        </span>
      </div>
      <Described kind="site" name={p.name} text={p.description} />
      <p className="text-sm">
        Here it may {p.grants.words}. There this site may {p.granted.words}.
      </p>
      <p className="text-sm">
        {p.pace.nowBytes < 0
          ? "Nothing limits what is sent to it"
          : p.pace.nowBytes === 0
            ? "Nothing is sent to it at present"
            : `At most ${p.pace.now} to it at present`}
        {p.pace.next && `, until ${stamp(p.pace.next)}`}; {size(p.pace.sentBytes)} sent since the service started.
      </p>
      {(p.pace.lines ?? []).length > 0 && <Week pace={p.pace} name={p.name} />}
      {check.data && <p className="font-say">{check.data.sentence}</p>}
      <Trouble error={check.error} />
      {p.granted.see || p.granted.configure ? <TheirWord name={p.name} /> : null}
      {open === "grants" && <GrantSheet peer={p} close={() => setOpen("")} />}
      {open === "addresses" && <Addresses peer={p} close={() => setOpen("")} />}
      {open === "pace" && <PaceSheet peer={p} close={() => setOpen("")} />}
    </section>
  );
}

/** What the other site says of itself, answered by it within what it granted. */
function TheirWord({ name }: { name: string }) {
  const status = useQuery({
    queryKey: ["desk", name],
    retry: false,
    refetchInterval: 60_000,
    queryFn: async () => {
      const r = await fetch(`/api/v1/sites/${encodeURIComponent(name)}/desk/status`);
      const body = (await r.json()) as Schemas["Status"] & { detail?: string };
      if (!r.ok) throw new Error(body.detail ?? r.statusText);
      return body;
    },
  });
  if (status.isPending) return null;
  if (status.error)
    return <p className="text-sm text-faint">It does not answer how it stands: {status.error.message}</p>;
  return (
    <div className="mt-1 text-sm">
      <span className="text-faint">It says of itself: </span>
      {(status.data.sentences ?? []).map((s) => (
        <span key={s.text} className={s.weight === "act" ? "text-hand" : ""}>
          {s.text}{" "}
        </span>
      ))}
    </div>
  );
}

const days = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];

/** The week of a pace, an hour a box: the darker the slower, nothing crossed out. */
function Week({ pace, name }: { pace: Schemas["Pace"]; name: string }) {
  const week = useQuery({
    queryKey: ["sites", name, "week"],
    queryFn: () => told(api.GET("/sites/{name}/pace", { params: { path: { name } } })),
  });
  const hours = week.data?.hours ?? [];
  if (hours.length !== 168) return null;
  const limits = [...new Set(hours)].filter((h) => h > 0).sort((a, b) => a - b);
  const shade = (h: number) =>
    h < 0
      ? "var(--sheet)"
      : h === 0
        ? "var(--hand)"
        : `color-mix(in srgb, var(--ink) ${70 - (limits.indexOf(h) * 50) / Math.max(1, limits.length)}%, var(--sheet))`;
  return (
    <figure className="my-2 max-w-xl">
      <svg
        viewBox="0 0 560 104"
        className="block w-full"
        role="img"
        aria-label={`Pace by hour of the week in ${pace.zone || "UTC"}: ${(pace.lines ?? []).join("; ")}`}
      >
        {days.map((d, i) => (
          <text key={d} x={34} y={12 + i * 12} textAnchor="end" fontSize={11} fill="var(--faint)">
            {d}
          </text>
        ))}
        {hours.map((h, i) => {
          const x = 40 + (i % 24) * 21.5,
            y = 3 + Math.floor(i / 24) * 12;
          return (
            <g key={i}>
              <rect x={x} y={y} width={20.5} height={11} fill={shade(h)} stroke="var(--rule)" strokeWidth={0.5} />
              {h === 0 && <path d={`M${x + 6},${y + 2} l8,7 m0,-7 l-8,7`} stroke="var(--paper)" strokeWidth={1.4} />}
            </g>
          );
        })}
        {[0, 6, 12, 18].map((h) => (
          <text
            key={h}
            x={40 + h * 21.5}
            y={100}
            fontSize={11}
            fill="var(--faint)"
          >{`${String(h).padStart(2, "0")}:00`}</text>
        ))}
      </svg>
      <figcaption className="text-xs text-faint">
        {(pace.lines ?? []).join("; ")} ({pace.zone || "UTC"}). The darker, the slower; crossed: nothing.
      </figcaption>
    </figure>
  );
}

function GrantSheet({ peer: p, close }: { peer: Peer; close: () => void }) {
  const queries = useQueryClient();
  const [want, setWant] = useState<Record<Grant, boolean>>({
    offer: p.grants.offer,
    read: p.grants.read,
    see: p.grants.see,
    configure: p.grants.configure,
    "take-over": p.grants.takeOver,
  });
  const [volumes, setVolumes] = useState(
    [
      ...Object.entries(p.grants.labels ?? {}).map((l) => l.join("=")),
      ...(p.grants.names ?? []).map((n) => `name=${n}`),
    ].join(" "),
  );
  const [ending, setEnding] = useState("");
  const save = useMutation({
    mutationFn: async () => {
      const params = { path: { name: p.name } };
      const off = grants
        .map(([g]) => g)
        .filter((g) => (g === "take-over" ? p.grants.takeOver : p.grants[g]) && !want[g]);
      const on = grants.map(([g]) => g).filter((g) => want[g]);
      if (off.length) await told(api.POST("/sites/{name}/revoke", { params, body: { grants: off }, headers: once() }));
      const parts = volumes.split(/[\s,]+/).filter(Boolean);
      const names = parts.filter((x) => x.startsWith("name=")).map((x) => x.slice(5));
      const labels = Object.fromEntries(
        parts.filter((x) => !x.startsWith("name=")).map((x) => x.split("=") as [string, string]),
      );
      if (on.length)
        await told(
          api.POST("/sites/{name}/grants", {
            params,
            body: { grants: on, ...(want.read ? { labels, names } : {}) },
            headers: once(),
          }),
        );
    },
    onSuccess: () => {
      void queries.invalidateQueries();
      close();
    },
  });
  const end = useMutation({
    mutationFn: () =>
      told(api.POST("/sites/{name}/revoke", { params: { path: { name: p.name } }, body: {}, headers: once() })),
    onSuccess: () => {
      void queries.invalidateQueries();
      close();
    },
  });
  return (
    <Sheet title={`What ${p.name} may do here`} open close={close}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate();
        }}
      >
        {grants.map(([g, words]) => (
          <label key={g} className="my-2 flex items-baseline gap-2 text-sm">
            <input type="checkbox" checked={want[g]} onChange={(e) => setWant({ ...want, [g]: e.target.checked })} />
            <span>
              <strong>{g}</strong>: {words}
            </span>
          </label>
        ))}
        <Field label="Volumes that it may read" help="Labels as key=value, or name=VOLUME; nothing: all volumes.">
          <input
            className="field w-full"
            value={volumes}
            onChange={(e) => setVolumes(e.target.value)}
            disabled={!want.read}
          />
        </Field>
        <Trouble error={save.error} />
        <button className="press" disabled={save.isPending}>
          Save it
        </button>
      </form>
      <h3 className="head mt-6 border-t border-rule pt-3 text-base">End the pairing</h3>
      <p className="text-sm">
        Its key then lets it do nothing here, and routes to and from it close. Snapshots stay. Type its name to end it.
      </p>
      <p className="my-2 flex gap-3">
        <input
          className="field"
          aria-label={`Type ${p.name} to end the pairing`}
          value={ending}
          onChange={(e) => setEnding(e.target.value)}
        />
        <button className="press press-hand" disabled={ending !== p.name || end.isPending} onClick={() => end.mutate()}>
          End it
        </button>
      </p>
      <Trouble error={end.error} />
    </Sheet>
  );
}

function PaceSheet({ peer: p, close }: { peer: Peer; close: () => void }) {
  const queries = useQueryClient();
  const [lines, setLines] = useState((p.pace.lines ?? []).join("\n"));
  const [zone, setZone] = useState(p.pace.zone ?? "");
  const save = useMutation({
    mutationFn: () =>
      told(
        api.PUT("/sites/{name}/pace", {
          params: { path: { name: p.name } },
          body: {
            lines: lines
              .split("\n")
              .map((l) => l.trim())
              .filter(Boolean),
            zone,
          },
          headers: once(),
        }),
      ),
    onSuccess: () => {
      void queries.invalidateQueries();
      close();
    },
  });
  return (
    <Sheet title={`Pace towards ${p.name}`} open close={close}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate();
        }}
      >
        <p className="text-sm">
          One limit a line; the first whose time it is holds. It counts at once, also for what is on its way.
        </p>
        <Field
          label="Limits"
          help="Such as: 20 Mbit/s between 07:00 and 19:00 on mon-fri. Or: nothing on sun; unlimited; 200 Mbit/s."
        >
          <textarea
            className="field h-28 w-full font-mono text-sm"
            value={lines}
            onChange={(e) => setLines(e.target.value)}
          />
        </Field>
        <Field label="Time zone">
          <input className="field w-full" value={zone} onChange={(e) => setZone(e.target.value)} placeholder="UTC" />
        </Field>
        <Trouble error={save.error} />
        <button className="press" disabled={save.isPending}>
          Save it
        </button>
      </form>
    </Sheet>
  );
}
