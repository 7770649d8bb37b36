import { useMutation, useQuery } from "@tanstack/react-query";
import { useNavigate, useSearchParams } from "react-router";

import { api, once, told } from "../api/client";
import { ByCommand, Trouble, Waiting } from "../parts/ui";
import { stamp } from "../parts/times";
import { exact, size, word } from "../parts/words";
import { Caps, Forecast } from "./limits";
import { VolumeSpace } from "./reclaim";
import { StoreCare } from "./storecare";
import { Wide } from "../parts/wide";

export function Space() {
  const go = useNavigate();
  const [params, setParams] = useSearchParams();
  const use = useQuery({ queryKey: ["store"], queryFn: () => told(api.GET("/store")) });
  const plan = useQuery({ queryKey: ["store", "prune"], queryFn: () => told(api.POST("/prune/plan", { body: {} })) });
  const prune = useMutation({
    mutationFn: () => told(api.POST("/prune", { body: {}, headers: once() })),
    onSuccess: (r) => void go(`/runs/${r.id}`),
  });
  const sweep = useMutation({
    mutationFn: () => told(api.POST("/store/sweep", { body: {}, headers: once() })),
    onSuccess: (r) => void go(`/runs/${r.id}`),
  });
  if (use.isPending) return <Waiting what="the store" />;
  if (use.error) return <Trouble error={use.error} />;
  const u = use.data;
  const most = Math.max(1, ...(u.volumes ?? []).map((v) => v.referenced));
  const p = plan.data;
  const chosen = params.get("volume") ?? u.volumes?.[0]?.volume ?? "";
  const choose = (v: string) =>
    setParams((old) => {
      const n = new URLSearchParams(old);
      n.set("volume", v);
      return n;
    });
  return (
    <>
      <h1 className="head my-5">
        Space at <span className="capitalize">{u.place}</span>
      </h1>
      <p className="font-say text-lg">
        <span title={exact(u.storedBytes)}>{size(u.storedBytes)}</span> hold {u.snapshots} snapshots of{" "}
        {u.objects.toLocaleString("en")} objects; <span title={exact(u.deadBytes)}>{size(u.deadBytes)}</span> wait to be
        given back, and <span title={exact(u.freeBytes)}>{size(u.freeBytes)}</span> are free.
      </p>
      <h2 className="head mt-6 border-b border-ink">Where it went</h2>
      <Wide label="Space">
        <table className="plain">
          <thead>
            <tr>
              <th scope="col">Volume</th>
              <th scope="col">Snapshots</th>
              <th scope="col">Needs</th>
              <th scope="col" className="w-2/5">
                <span className="sr-only">Drawn</span>
              </th>
              <th scope="col">Back if all of them went</th>
            </tr>
          </thead>
          <tbody>
            {(u.volumes ?? []).map((v) => (
              <tr key={v.volume}>
                <td>
                  <button
                    className={v.volume === chosen ? "border-b-2 border-ink font-semibold" : "quiet"}
                    onClick={() => choose(v.volume)}
                  >
                    {v.volume}
                  </button>
                </td>
                <td>{v.snapshots}</td>
                <td title={exact(v.referenced)}>{size(v.referenced)}</td>
                <td>
                  <svg width="100%" height="14" aria-hidden>
                    <rect
                      width={`${(100 * v.referenced) / most}%`}
                      height="13"
                      y="0.5"
                      fill="none"
                      stroke="var(--ink)"
                    />
                    <rect width={`${(100 * v.unique) / most}%`} height="13" y="0.5" fill="var(--ink)" />
                  </svg>
                </td>
                <td title={exact(v.unique)}>{size(v.unique)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </Wide>
      <p className="text-xs text-faint">Filled: its own. Outlined: shared with snapshots of other volumes.</p>
      {chosen && (
        <>
          <h2 className="head mt-6 mb-2 border-b border-ink">{chosen}</h2>
          <VolumeSpace key={chosen} volume={chosen} />
        </>
      )}
      <Forecast usage={u} />
      <Caps usage={u} />
      <h2 className="head mt-6 border-b border-ink">What the rules let go now</h2>
      <Trouble error={plan.error ?? prune.error ?? sweep.error} />
      {p && (
        <>
          {p.held ? (
            <p className="py-2">Nothing is removed at present: {p.held}</p>
          ) : p.enterGrace + p.removed === 0 ? (
            <p className="py-2">Nothing: all that is here is kept, or in grace.</p>
          ) : (
            <p className="py-2">
              {p.enterGrace} would enter grace, {p.removed} are past it. A sweep would then give back{" "}
              {size(p.removedBytes)}, and {size(p.graceBytes)} more when those entering grace are gone too.
            </p>
          )}
          {(p.going ?? []).length > 0 && (
            <div className="max-h-80 overflow-y-auto">
              <table className="plain">
                <tbody>
                  {(p.going ?? []).map((g) => (
                    <tr key={g.id}>
                      <td className="font-mono whitespace-nowrap">{stamp(g.taken)}</td>
                      <td>{g.volume}</td>
                      <td>{g.what}</td>
                      <td className="text-faint">{g.why}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
              {(p.notListed ?? 0) > 0 && <p className="text-sm text-faint">… and {p.notListed} more.</p>}
            </div>
          )}
        </>
      )}
      <div className="mt-4 flex gap-3">
        <button className="press" onClick={() => prune.mutate()}>
          Apply the rules now
        </button>
        <button className="press" onClick={() => sweep.mutate()}>
          Sweep now
        </button>
      </div>
      <StoreCare held={p?.held} />
      <ByCommand
        lines={[
          "candid space",
          ...(chosen ? [`candid space ${word(chosen)}`] : []),
          "candid space if-removed ID",
          "candid cap list",
          "candid prune --dry-run",
          "candid store sweep",
        ]}
      />
    </>
  );
}
