import { useMutation, useQueryClient } from "@tanstack/react-query";
import { scaleLinear, scaleTime } from "d3-scale";
import { useState } from "react";

import { api, once, type Schemas, told } from "../api/client";
import { asThey, ChooseField } from "../parts/choose";
import { Field, Sheet, Trouble } from "../parts/ui";
import { stamp } from "../parts/times";
import { exact, size } from "../parts/words";
import { zonedTicks } from "../parts/zonedticks";
import { Wide } from "../parts/wide";

/** When the disk is full, going on as lately: what was measured, and the line ahead. */
export function Forecast({ usage }: { usage: Schemas["Usage"] }) {
  const f = usage.forecast;
  const samples = f.samples ?? [];
  const W = 720,
    H = 150,
    left = 70,
    right = 96,
    bottom = 22;
  const last = samples.at(-1);
  const begin = samples[0] ? Date.parse(samples[0].at) : 0;
  const now = last ? Date.parse(last.at) : 0;
  // As far ahead as was looked back, or a little beyond the day that it is full.
  const full = f.full ? Date.parse(f.full) : Infinity;
  const end = Math.min(now + (now - begin), full + (now - begin) / 8);
  const ahead = (n: number, perDay: number) => Math.max(0, n + (perDay * (end - now)) / 86_400_000);
  const lines = last
    ? [
        {
          name: "stored",
          of: (s: Schemas["UsageSample"]) => s.stored,
          to: ahead(last.stored, f.storedPerDay),
          dash: "",
        },
        { name: "free", of: (s: Schemas["UsageSample"]) => s.free, to: ahead(last.free, f.freePerDay), dash: "6 3" },
      ]
    : [];
  const x = scaleTime([begin, end], [left, W - right]);
  return (
    <section aria-labelledby="forecast" className="my-6">
      <h2 id="forecast" className="head border-b border-ink">
        How it grows
      </h2>
      <p className="py-2">{f.sentence}</p>
      {usage.ballastWanted > 0 && (
        <p className="pb-2 text-sm">
          Ballast: <span title={exact(usage.ballastHeld)}>{size(usage.ballastHeld)}</span> of{" "}
          <span title={exact(usage.ballastWanted)}>{size(usage.ballastWanted)}</span> are set aside, which only
          snapshots may use.
        </p>
      )}
      {last && samples.length > 2 && (
        <div className="grid grid-cols-1 gap-x-8 md:grid-cols-2">
          {lines.map((l) => {
            const most = Math.max(1, l.to, ...samples.map(l.of)) * 1.05;
            const y = scaleLinear([0, most], [H - bottom, 8]).nice(3);
            const path = (points: [number, number][]) =>
              points.map(([a, b], i) => `${i ? "L" : "M"}${a.toFixed(1)},${b.toFixed(1)}`).join("");
            return (
              <figure key={l.name}>
                <figcaption className="text-sm font-semibold">
                  {l.name === "stored" ? "Stored by snapshots" : "Free on the filesystem"}
                </figcaption>
                <Wide label="Forecast">
                  <svg
                    viewBox={`0 0 ${W} ${H}`}
                    className="block w-full min-w-[460px]"
                    role="img"
                    aria-label={
                      `${l.name}: ${size(l.of(last))} now, ` + `${size(l.to)} on ${stamp(new Date(end))} going on so`
                    }
                  >
                    {y.ticks(3).map((t) => (
                      <g key={t}>
                        <line x1={left} x2={W - right} y1={y(t)} y2={y(t)} stroke="var(--rule)" />
                        <text x={left - 6} y={y(t) + 4} textAnchor="end" fontSize={13} fill="var(--faint)">
                          {size(t)}
                        </text>
                      </g>
                    ))}
                    {zonedTicks(x, 5).map((t) => (
                      <text key={+t.at} x={x(t.at)} y={H - 5} textAnchor="middle" fontSize={13} fill="var(--faint)">
                        {t.label}
                      </text>
                    ))}
                    <line x1={x(now)} x2={x(now)} y1={8} y2={H - bottom} stroke="var(--now)" />
                    <path
                      d={path(samples.map((s) => [x(Date.parse(s.at)), y(l.of(s))]))}
                      fill="none"
                      stroke="var(--ink)"
                      strokeWidth={1.8}
                    />
                    <path
                      d={path([
                        [x(now), y(l.of(last))],
                        [x(end), y(l.to)],
                      ])}
                      fill="none"
                      stroke="var(--ink)"
                      strokeWidth={1.4}
                      strokeDasharray="5 4"
                    />
                    <text x={x(end) + 6} y={y(l.to) + 4} fontSize={13} fill="var(--ink)">
                      {size(l.to)}
                    </text>
                  </svg>
                </Wide>
              </figure>
            );
          })}
        </div>
      )}
      {last && samples.length > 2 && (
        <p className="text-xs text-faint">
          Drawn: measured. Dashed: going on at the median rate of the last days. The line between: now.
        </p>
      )}
    </section>
  );
}

/** Upper bounds with what there is. */
export function Caps({ usage }: { usage: Schemas["Usage"] }) {
  const queries = useQueryClient();
  const caps = usage.caps ?? [];
  const [making, setMaking] = useState(false);
  const remove = useMutation({
    mutationFn: (c: Schemas["Cap"]) =>
      told(api.DELETE("/caps/{scope}/{name}", { params: { path: { scope: c.scope, name: c.name } }, headers: once() })),
    onSuccess: () => queries.invalidateQueries(),
  });
  return (
    <section aria-labelledby="caps" className="my-6">
      <div className="flex flex-wrap items-baseline gap-4 border-b border-ink">
        <h2 id="caps" className="head">
          Caps
        </h2>
        <span className="text-sm text-faint">
          Upper bounds of a volume, of another site&apos;s copies, or of this place.
        </span>
        <button className="quiet ml-auto text-sm" onClick={() => setMaking(true)}>
          Set a cap
        </button>
      </div>
      <Trouble error={remove.error} />
      {caps.length === 0 ? (
        <p className="py-2 text-sm text-faint">None. Snapshots take what the rules keep.</p>
      ) : (
        <ul>
          {caps.map((c) => (
            <li
              key={c.scope + c.name}
              className="flex flex-wrap items-baseline gap-x-4 border-b border-rule py-2 text-sm"
            >
              <span className="font-semibold">
                {c.scope} {c.name}
              </span>
              <span className={c.isReached && c.reached === "stop taking" ? "border-l-4 border-hand pl-3" : ""}>
                {c.sentence}
              </span>
              <button className="quiet ml-auto" onClick={() => remove.mutate(c)}>
                take away
              </button>
            </li>
          ))}
        </ul>
      )}
      {making && <CapSheet usage={usage} close={() => setMaking(false)} />}
    </section>
  );
}

const units = { MiB: 2 ** 20, GiB: 2 ** 30, TiB: 2 ** 40 };

function CapSheet({ usage, close }: { usage: Schemas["Usage"]; close: () => void }) {
  const queries = useQueryClient();
  const volumes = (usage.volumes ?? []).map((v) => v.volume);
  const peers = [...new Set(volumes.filter((v) => v.includes("@")).map((v) => v.split("@")[1]))];
  const choices = [...volumes.map((v) => ["volume", v]), ...peers.map((p) => ["peer", p]), ["place", usage.place]];
  const [chosen, setChosen] = useState(choices[0].join(" "));
  const [count, setCount] = useState("");
  const [bytes, setBytes] = useState("");
  const [unit, setUnit] = useState<keyof typeof units>("GiB");
  const [reached, setReached] = useState<"oldest goes" | "stop taking">("stop taking");
  const put = useMutation({
    mutationFn: () => {
      const [scope, name] = chosen.split(" ") as ["volume" | "peer" | "place", string];
      return told(
        api.PUT("/caps", {
          headers: once(),
          body: {
            scope,
            name,
            reached,
            ...(count ? { snapshots: Number(count) } : {}),
            ...(bytes ? { bytes: Math.round(Number(bytes) * units[unit]) } : {}),
          },
        }),
      );
    },
    onSuccess: () => {
      void queries.invalidateQueries();
      close();
    },
  });
  return (
    <Sheet title="Set a cap" open close={close}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          put.mutate();
        }}
      >
        <ChooseField
          label="Of"
          value={chosen}
          options={choices.map((c) => ({
            value: c.join(" "),
            label: c[0] === "peer" ? `all copies from ${c[1]}` : c.join(" "),
          }))}
          choose={setChosen}
        />
        <Field label="At most so many snapshots" help="Empty: no bound. Those in grace do not count.">
          <input
            className="field w-full"
            type="number"
            min={1}
            value={count}
            onChange={(e) => setCount(e.target.value)}
          />
        </Field>
        <Field
          label="At most so many bytes of their own"
          help="Empty: no bound. What other snapshots need too does not count."
        >
          <input
            className="field"
            type="number"
            min={0}
            step="any"
            value={bytes}
            onChange={(e) => setBytes(e.target.value)}
          />
        </Field>
        <ChooseField
          label="Unit of the bytes"
          value={unit}
          options={asThey(Object.keys(units) as (keyof typeof units)[])}
          choose={setUnit}
        />
        <ChooseField
          label="When it is reached"
          value={reached}
          options={[
            { value: "stop taking", label: "stop taking, and say so" },
            { value: "oldest goes", label: "the oldest go, through grace" },
          ]}
          choose={setReached}
        />
        <Trouble error={put.error} />
        <div className="mt-4 flex gap-3">
          <button className="press" disabled={put.isPending || (!count && !bytes)}>
            Set it
          </button>
          <button type="button" className="quiet" onClick={close}>
            Not now
          </button>
        </div>
      </form>
    </Sheet>
  );
}
