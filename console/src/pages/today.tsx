import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";

import { api, once, told } from "../api/client";
import { ByCommand, Command, Progress, Trouble, Waiting } from "../parts/ui";
import { Named } from "../parts/named";
import { FirstSteps } from "./firststeps";
import { useAddress } from "../parts/address";
import { FoldedRuler } from "../parts/foldedruler";
import { stamp } from "../parts/times";
import { ago, exact, size } from "../parts/words";

/** Takes a snapshot of each volume that needs one. */
function TakeDue({ next, command }: { next: string; command: string }) {
  const queries = useQueryClient();
  const take = useMutation({
    mutationFn: () => told(api.POST("/snapshots", { body: { due: true, take: {} }, headers: once() })),
    onSuccess: () => queries.invalidateQueries(),
  });
  const refused = take.data?.refused ?? [];
  return (
    <span className="inline-flex flex-wrap items-baseline gap-2">
      <button className="press" onClick={() => take.mutate()} disabled={take.isPending}>
        {next}
      </button>
      <Command text={command} />
      {take.data && (
        <span role="status">
          {take.data.runs?.length ?? 0} begun
          {refused.length > 0 && `; not of ${refused[0]!.volume}: ${refused[0]!.why}`}
        </span>
      )}
      <Trouble error={take.error} />
    </span>
  );
}

export function Today() {
  const [get] = useAddress();
  const by = get("fold");
  const status = useQuery({
    queryKey: ["status", by],
    queryFn: ({ signal }) => told(api.GET("/today", { params: { query: by ? { by } : {} }, signal })),
    placeholderData: keepPreviousData,
    refetchInterval: 30_000,
  });
  if (status.isPending) return <Waiting what="how everything stands" />;
  if (status.error) return <Trouble error={status.error} />;
  const s = status.data;
  return (
    <>
      <section aria-label="How everything stands" className="my-5">
        {(s.sentences ?? []).map((x, i) => (
          <div
            key={x.text}
            className={
              "my-2 flex flex-wrap items-baseline gap-x-4 gap-y-1 font-say " + (i === 0 ? "text-2xl" : "text-lg")
            }
          >
            <p className={x.weight === "act" ? "border-l-4 border-hand pl-3" : i === 0 ? "" : "pl-4"}>{x.text}</p>
            {x.next && (
              <span className="font-text text-sm">
                {x.command === "candid snapshot take --due" ? (
                  <TakeDue next={x.next} command={x.command} />
                ) : x.link && !x.command?.startsWith("candid snapshot take") ? (
                  <Link className="press" to={x.link}>
                    {x.next}
                  </Link>
                ) : (
                  <span className="inline-flex items-baseline gap-2">
                    {x.next}: <Command text={x.command!} />
                  </span>
                )}
              </span>
            )}
            <Named volumes={x.volumes} />
          </div>
        ))}
      </section>
      <FirstSteps />
      {s.volumes > 0 ? (
        <FoldedRuler today={s} />
      ) : (
        <p className="my-8">Once a volume is protected, its history is drawn here.</p>
      )}
      <div className="mt-6 grid gap-x-10 gap-y-6 md:grid-cols-2">
        <section aria-labelledby="running">
          <h2 id="running" className="head border-b border-ink">
            Running
          </h2>
          {(s.running ?? []).length === 0 && <p className="py-2 text-sm text-faint">Nothing runs at the moment.</p>}
          {(s.running ?? []).map((r) => (
            <div key={r.id} className="border-b border-rule py-2">
              <Link to={`/runs/${r.id}`} className="quiet">
                {r.kind} of {r.subject}
              </Link>
              <Progress run={r} />
            </div>
          ))}
        </section>
        <section aria-labelledby="coming">
          <h2 id="coming" className="head border-b border-ink">
            Coming
          </h2>
          {(s.coming ?? []).length === 0 && (
            <p className="py-2 text-sm text-faint">Nothing is due: no policy takes snapshots.</p>
          )}
          <table className="plain">
            <tbody>
              {(s.coming ?? []).map((c) => (
                <tr key={c.volume + c.at}>
                  <td className="whitespace-nowrap font-mono">{stamp(c.at)}</td>
                  <td>
                    {c.what} of {c.volume}
                  </td>
                  <td className="text-faint">{ago(c.at)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </section>
      </div>
      <p className="mt-6 text-sm text-faint">
        The store holds <span title={exact(s.usage.storedBytes)}>{size(s.usage.storedBytes)}</span> in{" "}
        {s.usage.snapshots} snapshots; <span title={exact(s.usage.freeBytes)}>{size(s.usage.freeBytes)}</span> are free.
      </p>
      <ByCommand lines={["candid status"]} />
    </>
  );
}
