import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { api, once, type Route, type Schemas, told } from "../api/client";
import { asThey, ChooseField } from "../parts/choose";
import { Field, Sheet, Trouble } from "../parts/ui";

type Terms = Schemas["RouteTerms"];

const lines = (text: string) => (text === "" ? [] : text.split("\n"));
const pairs = (text: string) => text.split(/[\s,]+/).filter(Boolean);
const named = (text: string) =>
  pairs(text)
    .filter((p) => p.startsWith("name="))
    .map((p) => p.slice(5));
const labelled = (text: string) =>
  Object.fromEntries(
    pairs(text)
      .filter((p) => !p.startsWith("name="))
      .map((p) => {
        const at = p.indexOf("=");
        return at < 0 ? [p, ""] : [p.slice(0, at), p.slice(at + 1)];
      }),
  );
const chosen = (r?: Route) =>
  [...Object.entries(r?.labels ?? {}).map((l) => l.join("=")), ...(r?.names ?? []).map((n) => `name=${n}`)].join(" ");

/** Opens a route, or changes one: what it would do is said before it is saved. */
export function RouteForm({
  open,
  close,
  peers,
  route,
}: {
  open: boolean;
  close: () => void;
  peers: Schemas["Peer"][];
  route?: Route;
}) {
  const queries = useQueryClient();
  const [name, setName] = useState("");
  const [pull, setPull] = useState(false);
  const [site, setSite] = useState("");
  const [volumes, setVolumes] = useState(chosen(route));
  const [terms, setTerms] = useState<Terms>(route?.terms ?? {});
  const clean = (): Terms => ({
    ...terms,
    in: (terms.in ?? []).filter(Boolean),
    out: (terms.out ?? []).filter(Boolean),
  });
  const other = site || peers[0]?.name || "";
  const peer = peers.find((p) => p.name === (route ? (route.pull ? route.from : route.to) : other));
  const ways = [...new Set([...(peer?.ownAddresses ?? []), ...(peer?.addresses ?? [])])];
  const set = (change: Partial<Terms>) => setTerms((t) => ({ ...t, ...change }));
  const ask = () => ({
    name: name || `${pull ? "from" : "to"}-${other}`,
    ...(pull ? { from: other } : { to: other }),
    labels: labelled(volumes),
    names: named(volumes),
    terms: clean(),
  });
  const done = () => {
    void queries.invalidateQueries();
    close();
  };
  const check = useMutation({ mutationFn: () => told(api.POST("/routes/check", { body: ask() })) });
  const save = useMutation({
    mutationFn: () =>
      route
        ? told(
            api.PATCH("/routes/{name}", {
              params: { path: { name: route.name } },
              body: { labels: labelled(volumes), names: named(volumes), terms: clean() },
              headers: once(),
            }),
          )
        : told(api.POST("/routes", { body: ask(), headers: once() })),
    onSuccess: done,
  });
  return (
    <Sheet
      title={route ? `Change ${route.name}` : "Open a route"}
      open={open}
      close={() => {
        save.reset();
        check.reset();
        close();
      }}
      wide
    >
      <form
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate();
        }}
      >
        <div className="grid gap-x-6 sm:grid-cols-2">
          {!route && (
            <>
              <ChooseField
                label="Which way"
                help={
                  pull ? "This site takes what it wants; nobody brings it." : "This site brings new snapshots there."
                }
                value={pull ? "from" : "to"}
                options={[
                  { value: "to", label: "carry to a site" },
                  { value: "from", label: "take from a site" },
                ]}
                choose={(v) => {
                  setPull(v === "from");
                  check.reset();
                }}
              />
              <ChooseField
                label={pull ? "From" : "To"}
                value={other}
                options={asThey(peers.map((p) => p.name))}
                choose={(v) => {
                  setSite(v);
                  check.reset();
                }}
              />
              <Field label="Name">
                <input
                  className="field w-full"
                  value={name}
                  onChange={(e) => setName(e.target.value)}
                  placeholder={`${pull ? "from" : "to"}-${other}`}
                />
              </Field>
            </>
          )}
          <Field label="Volumes" help="Labels that must all match, as key=value; or name=VOLUME.">
            <input
              className="field w-full"
              value={volumes}
              onChange={(e) => {
                setVolumes(e.target.value);
                check.reset();
              }}
              placeholder="collection=herbarium"
              required
            />
          </Field>
          <Field
            label="When"
            help={
              `Nothing: ${pull || route?.pull ? "every 15 minutes" : "after every snapshot"}. ` +
              "Or: daily at 22:00; on demand."
            }
          >
            <input className="field w-full" value={terms.when ?? ""} onChange={(e) => set({ when: e.target.value })} />
          </Field>
          <Field label="Time zone of that">
            <input
              className="field w-full"
              value={terms.zone ?? ""}
              onChange={(e) => set({ zone: e.target.value })}
              placeholder="UTC"
            />
          </Field>
          <Field label="Which snapshots" help="Nothing: what the rules there keep. Or: all; or a label as key=value.">
            <input
              className="field w-full"
              value={terms.carry ?? ""}
              onChange={(e) => set({ carry: e.target.value })}
            />
          </Field>
          <Field label="Own limit" help="Beside the pace of the site, such as 5 Mbit/s.">
            <input className="field w-full" value={terms.cap ?? ""} onChange={(e) => set({ cap: e.target.value })} />
          </Field>
          <Field
            label="Own limit by time of week"
            help="Instead: a line each, the first that holds counts: nothing between 08:00 and 18:00 on mon-fri."
          >
            <textarea
              className="field w-full font-mono"
              rows={2}
              value={(terms.pace ?? []).join("\n")}
              onChange={(e) => set({ pace: e.target.value ? e.target.value.split("\n") : [] })}
            />
          </Field>
          {ways.length > 1 && (
            <ChooseField
              label="By which way"
              value={terms.by ?? ""}
              options={[
                { value: "", label: "any that answers" },
                ...ways.map((a) => ({ value: a, label: `${a} alone` })),
              ]}
              choose={(by) => set({ by })}
            />
          )}
          <Field label="Priority" help="Its share of the pace, 1 to 9; 5 when not given.">
            <input
              className="field w-24"
              type="number"
              min={0}
              max={9}
              value={terms.priority ?? ""}
              onChange={(e) => set({ priority: Number(e.target.value) })}
            />
          </Field>
          <Field label="Finish within, in hours" help="A run that takes longer is an alarm.">
            <input
              className="field w-24"
              type="number"
              min={0}
              step="any"
              value={terms.withinSeconds ? terms.withinSeconds / 3600 : ""}
              onChange={(e) => set({ withinSeconds: Math.round(Number(e.target.value) * 3600) })}
            />
          </Field>
          <Field label="Only these paths" help="Of each volume, one a line; nothing: all.">
            <textarea
              className="field h-14 w-full font-mono text-sm"
              value={(terms.in ?? []).join("\n")}
              onChange={(e) => set({ in: lines(e.target.value) })}
            />
          </Field>
          <Field label="Not these paths">
            <textarea
              className="field h-14 w-full font-mono text-sm"
              value={(terms.out ?? []).join("\n")}
              onChange={(e) => set({ out: lines(e.target.value) })}
            />
          </Field>
          <ChooseField
            label="Standby"
            help="Lay the newest copy out as a directory there."
            value={terms.standby ?? ""}
            options={[
              { value: "", label: "no" },
              { value: "exact", label: "exact" },
              { value: "additive", label: "additive: what goes here stays there" },
            ]}
            choose={(standby) => set({ standby })}
          />
          <label className="my-3 flex items-baseline gap-2 text-sm">
            <input type="checkbox" checked={!!terms.onward} onChange={(e) => set({ onward: e.target.checked })} /> Carry
            volumes of other sites on as well
          </label>
        </div>
        <Trouble error={save.error ?? check.error} />
        {check.data && (
          <p className="my-3 border-l-4 border-now bg-sheet px-3 py-2 font-say" role="status">
            {check.data.sentence}
            {(check.data.volumes ?? []).length > 0 && ` These are ${(check.data.volumes ?? []).join(", ")}.`}
          </p>
        )}
        <div className="flex gap-3">
          {!route && (
            <button
              type="button"
              className="press"
              onClick={() => check.mutate()}
              disabled={check.isPending || !volumes}
            >
              {check.isPending ? "looking …" : "What would it carry?"}
            </button>
          )}
          <button className="press" disabled={save.isPending}>
            {route ? "Save it" : "Open it"}
          </button>
        </div>
      </form>
    </Sheet>
  );
}
