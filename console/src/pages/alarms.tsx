import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";

import { api, once, type Schemas, told } from "../api/client";
import { ByCommand, Command, Trouble, Waiting } from "../parts/ui";
import { Named } from "../parts/named";
import { stamp } from "../parts/times";
import { ago, span } from "../parts/words";

/** What needs a person, each once, with its end. */
export function Alarms() {
  const queries = useQueryClient();
  const [all, setAll] = useState(true);
  const list = useQuery({
    queryKey: ["alarms", all],
    queryFn: () => told(api.GET("/alarms", { params: { query: { all } } })),
    refetchInterval: 30_000,
  });
  const test = useMutation({ mutationFn: () => told(api.POST("/alarms/test", { headers: once() })) });
  const mute = useMutation({
    mutationFn: ({ id, hours }: { id: number; hours: number }) =>
      told(
        api.POST("/alarms/{id}/mute", {
          params: { path: { id } },
          body: { until: new Date(Date.now() + hours * 3600e3).toISOString() },
          headers: once(),
        }),
      ),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["alarms"] }),
  });
  if (list.isPending) return <Waiting what="alarms" />;
  if (list.error) return <Trouble error={list.error} />;
  const items = list.data.items ?? [];
  const open = items.filter((a) => !a.ended);
  return (
    <>
      <div className="my-5 flex flex-wrap items-baseline gap-x-6 gap-y-2">
        <h1 className="head">Alarms</h1>
        <p className="font-say text-lg">
          {open.length === 0
            ? "Nothing needs you now."
            : open.length === 1
              ? "One thing needs you."
              : `${open.length} things need you.`}
        </p>
        <span className="ml-auto flex items-baseline gap-4 text-sm">
          <label className="flex gap-2">
            <input type="checkbox" checked={all} onChange={(e) => setAll(e.target.checked)} /> also those that are over
          </label>
          <button className="press" onClick={() => test.mutate()} disabled={test.isPending}>
            Send a test
          </button>
        </span>
      </div>
      <p className="text-sm text-faint">
        They go to: {(list.data.channels ?? []).join(", ")}. Others are named under alarms in site.yaml.
      </p>
      {Object.entries(list.data.failing ?? {}).map(([by, why]) => (
        <p key={by} className="my-2 border-l-4 border-hand bg-sheet px-3 py-2 text-sm">
          Messages by {by} wait, because they cannot be sent: {why}
        </p>
      ))}
      {test.data && (
        <p className="my-2 font-say" role="status">
          {test.data.sentence}
        </p>
      )}
      <Trouble error={test.error ?? mute.error} />
      <ol className="my-4">
        {items.map((a) => (
          <Alarm key={a.id} a={a} mute={(hours) => mute.mutate({ id: a.id, hours })} />
        ))}
      </ol>
      <ByCommand lines={["candid alarm list --all", "candid alarm test", "candid alarm mute ID --for 8h"]} />
    </>
  );
}

function Alarm({ a, mute }: { a: Schemas["Alarm"]; mute: (hours: number) => void }) {
  return (
    <li className="border-b border-rule py-2">
      <p className={a.ended ? "pl-4 text-faint" : "border-l-4 border-hand pl-3 font-say text-lg"}>{a.text}</p>
      <Named volumes={a.ended ? undefined : a.volumes} />
      <p className="flex flex-wrap items-baseline gap-x-4 pl-4 text-sm">
        <span className="font-mono">{stamp(a.since)}</span>
        <span className="text-faint">
          {a.ended
            ? `over since ${stamp(a.ended)}, lasted ${span((Date.parse(a.ended) - Date.parse(a.since)) / 1000)}`
            : `open, since ${ago(a.since)}`}
        </span>
        {a.mutedUntil && <span className="text-faint">muted until {stamp(a.mutedUntil)}</span>}
        {!a.ended && a.link && (
          <Link className="quiet" to={a.link}>
            {a.next || "look"}
          </Link>
        )}
        {!a.ended && a.command && <Command text={a.command} />}
        {!a.ended && (
          <button className="quiet text-faint" onClick={() => mute(a.mutedUntil ? 0 : 8)}>
            {a.mutedUntil ? "tell again" : "do not tell for 8 hours"}
          </button>
        )}
      </p>
    </li>
  );
}
