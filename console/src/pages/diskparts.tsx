import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";

import { api, once, type Schemas, told } from "../api/client";
import { Command, Field, Sheet, Trouble } from "../parts/ui";
import { size, stamp, word } from "../parts/words";

type Client = Schemas["DiskClient"];

export const keyOf = (c: Client) => `${c.host ?? ""} ${c.process} ${c.since}`;

/** What clients read and write a second, between the last two answers. */
export function useRates(clients: Client[] | undefined, at: number): Map<string, string> {
  const last = useRef({ at: 0, bytes: new Map<string, [number, number]>() });
  const [rates, setRates] = useState(new Map<string, string>());
  useEffect(() => {
    const seconds = (at - last.current.at) / 1000;
    if (!clients || seconds <= 0) return;
    const now = new Map(clients.map((c) => [keyOf(c), [c.readBytes, c.writtenBytes] as [number, number]]));
    const out = new Map<string, string>();
    for (const [key, [read, written]] of now) {
      const was = last.current.bytes.get(key);
      if (!was) continue;
      const r = (read - was[0]) / seconds;
      const w = (written - was[1]) / seconds;
      out.set(key, r + w < 1 ? "idle" : `${size(Math.round(r))} read, ${size(Math.round(w))} written`);
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

/** Makes a writable copy of a moment of a disk. */
export function CloneSheet({ volume, at, close }: { volume: string; at: string; close: () => void }) {
  const queries = useQueryClient();
  const [name, setName] = useState("");
  const make = useMutation({
    mutationFn: () => told(api.POST("/clones", { body: { name, volume, at }, headers: once() })),
    onSuccess: () => void queries.invalidateQueries({ queryKey: ["clones"] }),
  });
  const moment = at === "latest" ? "latest" : word(stamp(at, true));
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
