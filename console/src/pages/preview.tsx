import { useQuery } from "@tanstack/react-query";

import { api, type Schemas, told } from "../api/client";
import { Trouble } from "../parts/ui";
import { Growth, Ladder } from "../parts/outlook";
import { stamp } from "../parts/times";
import { size, span } from "../parts/words";

const horizons: [number, string][] = [
  [30, "30 days"],
  [90, "90 days"],
  [365, "a year"],
  [1095, "3 years"],
];

export type Horizon = { days: number; fromNothing: boolean };

function useOutlook(body: string, h: Horizon) {
  return useQuery({
    queryKey: ["preview", body, h.days, h.fromNothing],
    queryFn: () => told(api.POST("/policies/preview", { body: { body, days: h.days, fromNothing: h.fromNothing } })),
    placeholderData: (old) => old,
  });
}

/** What the document would leave, foreseen by the site: in words, and as moments to go back to. */
export function Outlook({ body, horizon, look }: { body: string; horizon: Horizon; look: (h: Horizon) => void }) {
  const { data: p, error } = useOutlook(body, horizon);
  return (
    <section aria-labelledby="outlook" className="mt-5">
      <div className="flex flex-wrap items-baseline gap-x-4 gap-y-1 border-b border-ink">
        <h2 id="outlook" className="head">
          Left after
        </h2>
        {horizons.map(([d, label]) => (
          <button
            key={d}
            aria-pressed={d === horizon.days}
            className={d === horizon.days ? "border-b-2 border-ink font-semibold" : "quiet"}
            onClick={() => look({ ...horizon, days: d })}
          >
            {label}
          </button>
        ))}
      </div>
      <Trouble error={error} />
      {p && (
        <>
          <Reach preview={p} />
          <div className="my-2">
            {(p.sentences ?? []).map((s) => (
              <p key={s} className="my-1 text-sm">
                {s}
              </p>
            ))}
          </div>
          {(p.places ?? []).map((place) => (
            <figure key={place.place} className="my-2">
              <figcaption className="text-sm font-semibold">Moments one could go back to at {place.place}</figcaption>
              <Ladder place={place} end={p.to} />
            </figure>
          ))}
          <p className="text-xs text-faint">
            Taller: kept by a wider tier. Each step to the left is longer than the one before.
          </p>
          <label className="mt-1 block text-sm">
            <input
              type="checkbox"
              checked={horizon.fromNothing}
              onChange={(e) => look({ ...horizon, fromNothing: e.target.checked })}
            />{" "}
            as if nothing were there yet
          </label>
        </>
      )}
    </section>
  );
}

/** How far back one could go at each place, and what that takes. */
function Reach({ preview: p }: { preview: Schemas["Preview"] }) {
  return (
    <table className="plain my-2">
      <thead>
        <tr>
          <th scope="col">At</th>
          <th scope="col">Back to</th>
          <th scope="col">Steps</th>
          <th scope="col">Space, about</th>
        </tr>
      </thead>
      <tbody>
        {(p.places ?? []).map((place) => (
          <tr key={place.place}>
            <td>{place.place}</td>
            <td>
              {place.oldest ? (
                <>
                  {stamp(place.oldest)}{" "}
                  <span className="text-faint">
                    ({span((Date.parse(p.to) - Date.parse(place.oldest)) / 1000)}, by {place.by})
                  </span>
                </>
              ) : (
                "nothing"
              )}
            </td>
            <td>{place.kept}</td>
            <td>{size(place.samples?.at(-1)?.bytes ?? 0)}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** Counts and space over the same time. */
export function OutlookCharts({ body, horizon }: { body: string; horizon: Horizon }) {
  const { data: p } = useOutlook(body, horizon);
  if (!p) return null;
  return (
    <>
      <Growth preview={p} of="count" label="Snapshots, of all volumes" />
      <Growth preview={p} of="bytes" label="Space, about" />
      <p className="text-xs text-faint">
        Space is reckoned from what snapshots of each volume added lately; twice the time between two is taken for 1.7
        times the bytes, because files change again and again.
      </p>
    </>
  );
}

/** The versions of a policy, to look at and to begin from. */
export function History({ name, load }: { name: string; load: (body: string) => void }) {
  const versions = useQuery({
    queryKey: ["versions", name],
    queryFn: () => told(api.GET("/policies/{name}/versions", { params: { path: { name } } })),
  });
  const list = versions.data ?? [];
  if (list.length < 2) return null;
  return (
    <details className="mt-4 text-sm">
      <summary className="quiet">{list.length} versions</summary>
      <ol>
        {list.map((v) => (
          <li key={v.version} className="flex flex-wrap items-baseline gap-x-3 border-b border-rule py-1">
            <span className="w-6 font-mono">{v.version}</span>
            <span>{stamp(v.changed)}</span>
            <span className="text-faint">{v.changedBy}</span>
            {v.removed ? (
              <span>removed</span>
            ) : (
              <button className="quiet ml-auto" onClick={() => load(v.body)}>
                begin from this one
              </button>
            )}
          </li>
        ))}
      </ol>
    </details>
  );
}
