import { useQuery } from "@tanstack/react-query";
import { useSearchParams } from "react-router";

import { api, type Schemas, told } from "../api/client";
import { asThey, Choose } from "../parts/choose";
import { Progress, State, Trouble } from "../parts/ui";
import { TallRuler } from "../parts/ruler";
import { useTime } from "../parts/time";
import { stamp } from "../parts/times";
import { Contents } from "./files";
import { UndoButton } from "./undo";

type Me = Schemas["Me"];

/** What a file owner sees: own folders, moved through time, and what was brought back. */
export function OwnerPage({ me }: { me: Me }) {
  const [params, setParams] = useSearchParams();
  const time = useTime();
  const grants = me.grants ?? [];
  const volume = params.get("volume") ?? grants[0]?.volume ?? "";
  const grant = grants.find((g) => g.volume === volume);
  const at = time.moment ? new Date(time.moment).toISOString() : "latest";
  if (!grant)
    return (
      <p className="my-8 font-say text-lg">
        Nothing was granted to you yet. Ask whoever looks after the snapshots of {me.site} to let you see your folders.
      </p>
    );
  const folders = (grant.paths ?? []).map((p) => p || "everything");
  return (
    <>
      <div className="my-5 flex flex-wrap items-baseline gap-x-4 gap-y-1">
        <h1 className="font-say text-2xl font-semibold">
          Your files in{" "}
          {grants.length > 1 ? (
            <Choose
              label="Volume"
              value={volume}
              options={asThey(grants.map((g) => g.volume))}
              choose={(v) => setParams({ volume: v })}
            />
          ) : (
            volume
          )}
        </h1>
        <p className="text-sm text-faint">{folders.join(", ")}</p>
      </div>
      <p className="font-say text-lg">
        Choose when on the ruler, or look for a name. What you bring back goes where it was; the way back is kept.
      </p>
      <TallRuler volume={volume} />
      <Contents key={volume} volume={volume} at={at} inPlace own={grant.paths ?? []} />
      <Brought />
    </>
  );
}

function Brought() {
  const runs = useQuery({
    queryKey: ["runs", "own"],
    queryFn: () => told(api.GET("/runs", { params: { query: { kind: "restore", limit: 20 } } })),
  });
  const all = runs.data?.items ?? [];
  return (
    <section className="my-8">
      <h2 className="head border-b border-ink">What you brought back</h2>
      <Trouble error={runs.error} />
      {all.length === 0 && !runs.isPending && <p className="py-2 text-sm text-faint">Nothing yet.</p>}
      {all.map((r) => (
        <div key={r.id} className="flex flex-wrap items-baseline gap-x-4 border-b border-rule py-2 text-sm">
          <span className="text-faint">{stamp(r.queued)}</span>
          <State word={r.state} />
          {r.ended ? (
            <span className="min-w-0 grow basis-96">{r.outcome}</span>
          ) : (
            <span className="grow">
              <Progress run={r} />
            </span>
          )}
          {Date.now() - new Date(r.queued).getTime() < 86400_000 && <UndoButton run={r} />}
        </div>
      ))}
    </section>
  );
}
