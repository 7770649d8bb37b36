import { useQuery } from "@tanstack/react-query";
import { useState } from "react";

import { api, told } from "../api/client";
import { Trouble } from "../parts/bits";
import { Growth, Ladder } from "../parts/outlook";

const horizons: [number, string][] = [[30, "30 days"], [90, "90 days"], [365, "a year"], [1095, "3 years"]];

/** What the document would leave, foreseen by the site. */
export function PolicyPreview({ body }: { body: string }) {
  const [days, setDays] = useState(90);
  const [fromNothing, setFromNothing] = useState(false);
  const look = useQuery({
    queryKey: ["preview", body, days, fromNothing],
    queryFn: () => told(api.POST("/policies/preview", { body: { body, days, fromNothing } })),
    placeholderData: (old) => old,
  });
  const p = look.data;
  return (
    <section aria-labelledby="outlook" className="mt-8">
      <div className="flex flex-wrap items-baseline gap-x-4 gap-y-1 border-b border-ink">
        <h2 id="outlook" className="head">What would be left in</h2>
        {horizons.map(([d, label]) => <button key={d} aria-pressed={d === days} className={d === days ? "border-b-2 border-ink font-semibold" : "quiet"} onClick={() => setDays(d)}>{label}</button>)}
        <label className="ml-auto text-sm"><input type="checkbox" checked={fromNothing} onChange={(e) => setFromNothing(e.target.checked)} /> as if nothing were there yet</label>
      </div>
      <Trouble error={look.error} />
      {p && (
        <>
          <div className="my-2">{(p.sentences ?? []).map((s) => <p key={s} className="my-1 text-sm">{s}</p>)}</div>
          <div className="grid gap-x-10 md:grid-cols-2">
            <div>
              {(p.places ?? []).map((place) => (
                <figure key={place.place} className="my-3">
                  <figcaption className="text-sm font-semibold">Moments one could go back to at {place.place}</figcaption>
                  <Ladder place={place} end={p.to} />
                </figure>
              ))}
              <p className="text-xs text-faint">Taller: kept by a wider tier. Each step to the left is longer than the one before.</p>
            </div>
            <div>
              <Growth preview={p} of="count" label="Snapshots, of all volumes" />
              <Growth preview={p} of="bytes" label="Space, about" />
              <p className="text-xs text-faint">Space is reckoned from what snapshots of each volume added lately; twice the time between two is taken for 1.7 times the bytes, because files change again and again.</p>
            </div>
          </div>
        </>
      )}
    </section>
  );
}

/** The versions of a policy, to look at and to begin from. */
export function History({ name, load }: { name: string; load: (body: string) => void }) {
  const versions = useQuery({ queryKey: ["versions", name], queryFn: () => told(api.GET("/policies/{name}/versions", { params: { path: { name } } })) });
  const list = versions.data ?? [];
  if (list.length < 2) return null;
  return (
    <details className="mt-4 text-sm">
      <summary className="quiet">{list.length} versions</summary>
      <ol>{list.map((v) => (
        <li key={v.version} className="flex flex-wrap items-baseline gap-x-3 border-b border-rule py-1">
          <span className="w-6 font-mono">{v.version}</span><span>{new Date(v.changed).toLocaleString("en-GB", { dateStyle: "medium", timeStyle: "short" })}</span><span className="text-faint">{v.changedBy}</span>
          {v.removed ? <span>removed</span> : <button className="quiet ml-auto" onClick={() => load(v.body)}>begin from this one</button>}
        </li>
      ))}</ol>
    </details>
  );
}
