import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";

import { api, once, type Schemas, told } from "../api/client";
import { Command, Field, Sheet, Trouble } from "../parts/ui";
import { stamp } from "../parts/times";
import { instant, size, word } from "../parts/words";

type Client = Schemas["DiskClient"];

export const keyOf = (c: Client) => `${c.host ?? ""} ${c.process} ${c.since}`;

export type Rate = { now: string; each: string };

/** What clients read and write a second, and how long a request takes, between the last two answers. */
export function useRates(clients: Client[] | undefined, at: number): Map<string, Rate> {
  const last = useRef({ at: 0, bytes: new Map<string, number[]>() });
  const [rates, setRates] = useState(new Map<string, Rate>());
  useEffect(() => {
    const seconds = (at - last.current.at) / 1000;
    if (!clients || seconds <= 0) return;
    const now = new Map(
      clients.map((c) => [keyOf(c), [c.readBytes, c.writtenBytes, c.requests, c.waitedMicros]] as [string, number[]]),
    );
    const out = new Map<string, Rate>();
    for (const [key, is] of now) {
      const was = last.current.bytes.get(key);
      if (!was) continue;
      const [read = 0, written = 0, requests = 0, waited = 0] = is.map((n, i) => n - (was[i] ?? 0));
      const busy = read + written >= seconds;
      out.set(key, {
        now: busy ? `${size(Math.round(read / seconds))} read, ${size(Math.round(written / seconds))} written` : "idle",
        each: requests > 0 ? `${(waited / requests / 1000).toFixed(2)} ms` : "–",
      });
    }
    last.current = { at, bytes: now };
    setRates(out);
  }, [clients, at]);
  return rates;
}

/** Where the disk differs from a moment of it, drawn from its beginning to its end. */
export function Since({ volume, at }: { volume: string; at: string }) {
  const from = at === "latest" ? "latest" : at;
  const seen = useQuery({
    queryKey: ["ranges", volume, from],
    queryFn: () => told(api.GET("/volumes/{name}/ranges", { params: { path: { name: volume }, query: { from } } })),
    retry: false,
  });
  const c = seen.data;
  if (seen.error) return null; // there is no snapshot yet, which the page says elsewhere
  if (!c) return null;
  const along = c.along ?? [];
  const part = Math.max(1, c.sizeBytes / Math.max(1, along.length));
  return (
    <figure className="my-5" aria-label="What differs">
      <figcaption className="text-sm">
        {c.differsBytes === 0
          ? `Nothing was written since ${stamp(c.from.at, true)}.`
          : `${size(c.differsBytes)} of ${size(c.sizeBytes)} differ from ${stamp(c.from.at, true)}, in ` +
            `${(c.ranges ?? []).length}${c.cut ? " and more" : ""} stretches.`}
      </figcaption>
      <svg
        viewBox="0 0 640 26"
        className="mt-1 block w-full border border-rule"
        role="img"
        preserveAspectRatio="none"
        aria-label={`Of 64 equal parts of the disk, ${along.filter((n) => n > 0).length} differ`}
      >
        {along.map((n, i) =>
          n > 0 ? (
            <rect key={i} x={i * 10} y={0} width={10} height={26} fill="var(--ink)" opacity={0.25 + 0.75 * (n / part)}>
              <title>{`${size(n)} of the ${size(Math.round(part))} from ${size(Math.round(i * part))} on`}</title>
            </rect>
          ) : null,
        )}
      </svg>
      <p className="mt-1 flex justify-between text-xs text-faint">
        <span>beginning of the disk</span>
        <span>end</span>
      </p>
    </figure>
  );
}

/** Where the disk was written from one snapshot to the next: a row for each, the newest above. */
export function Writes({ volume }: { volume: string }) {
  const seen = useQuery({
    queryKey: ["writes", volume],
    queryFn: () => told(api.GET("/volumes/{name}/writes", { params: { path: { name: volume } } })),
    retry: false,
  });
  const rows = seen.data ?? [];
  if (rows.length === 0) return null; // it takes two snapshots, and the page tells how many there are
  const high = 10;
  const first = rows[rows.length - 1];
  const sum = rows.reduce((n, w) => n + w.writtenBytes, 0);
  return (
    <figure className="my-5" aria-label="Where it was written">
      <figcaption className="text-sm">
        Where it was written from one snapshot to the next, {stamp(rows[0]?.to ?? "", true)} above, back to{" "}
        {stamp(first?.to ?? "", true)} below: {size(sum)} together.
      </figcaption>
      <svg
        viewBox={`0 0 640 ${rows.length * high}`}
        className="mt-1 block w-full border border-rule"
        style={{ height: rows.length * high }}
        role="img"
        preserveAspectRatio="none"
        aria-label={`${rows.length} stretches of time, with ${size(sum)} written`}
      >
        {rows.map((w, y) => {
          const along = w.along ?? [];
          const part = Math.max(1, w.sizeBytes / Math.max(1, along.length));
          return (
            <g key={w.snapshot}>
              <rect x={0} y={y * high} width={640} height={high} fill="transparent">
                <title>{`${size(w.writtenBytes)} until ${stamp(w.to, true)}`}</title>
              </rect>
              {along.map((n, i) =>
                n > 0 ? (
                  <rect
                    key={i}
                    x={i * 10}
                    y={y * high}
                    width={10}
                    height={high - 1}
                    fill="var(--ink)"
                    opacity={0.25 + 0.75 * Math.min(1, n / part)}
                  >
                    <title>
                      {`${size(n)} of the ${size(Math.round(part))} from ${size(Math.round(i * part))} on, until ` +
                        stamp(w.to, true)}
                    </title>
                  </rect>
                ) : null,
              )}
            </g>
          );
        })}
      </svg>
      <p className="mt-1 flex justify-between text-xs text-faint">
        <span>beginning of the disk</span>
        <Command text={`candid disk writes ${word(volume)}`} />
        <span>end</span>
      </p>
    </figure>
  );
}

/** Makes a writable copy of a moment of a disk. */
export function CloneSheet({ volume, at, close }: { volume: string; at: string; close: () => void }) {
  const queries = useQueryClient();
  const [name, setName] = useState("");
  const make = useMutation({
    mutationFn: () => told(api.POST("/clones", { body: { name, volume, at }, headers: once() })),
    onSuccess: () => void queries.invalidateQueries({ queryKey: ["clones"] }),
  });
  const moment = at === "latest" ? "latest" : instant(at);
  return (
    <Sheet title={`Clone ${volume}`} open close={close}>
      {make.data ? (
        <>
          <p className="font-say text-lg">
            {make.data.name} is there, as {volume} was at {stamp(make.data.taken, true)}.
          </p>
          <p className="my-3 text-sm">
            Clients on this host open it as <Command text={make.data.address ?? ""} />
          </p>
          <p className="text-sm text-faint">It takes room for what is written to it; Recovery lists it.</p>
        </>
      ) : (
        <form
          onSubmit={(e) => {
            e.preventDefault();
            make.mutate();
          }}
        >
          <p className="text-sm">
            A writable copy as of {at === "latest" ? "its newest snapshot" : stamp(at, true)}: made at once, whatever
            its size.
          </p>
          <Field label="Name" help="Clients know the clone by this name.">
            <input className="field w-full" value={name} onChange={(e) => setName(e.target.value)} required />
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
      )}
      <p className="mt-4 text-sm text-faint">
        <Command text={`candid clone create ${word(name || "NAME")} ${word(volume)} --at ${moment}`} />
      </p>
    </Sheet>
  );
}
