import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";

import { api, type Schemas, told } from "../api/client";
import { Trouble } from "../parts/ui";
import { stamp } from "../parts/times";
import { size } from "../parts/words";
import { Wide } from "../parts/wide";

type Incoming = Schemas["Incoming"];

/** What other sites bring here, while it comes and at rest. */
export function IncomingList() {
  const list = useQuery({
    queryKey: ["incoming"],
    queryFn: () => told(api.GET("/incoming")),
    refetchInterval: (q) => ((q.state.data ?? []).some((v) => v.state === "coming") ? 2_000 : 30_000),
  });
  const [whole, setWhole] = useState(false);
  const hand = (v: Incoming) => (v.state === "at rest" ? 2 : v.state === "coming" ? 0 : 1);
  const all = [...(list.data ?? [])].sort((a, b) => hand(a) - hand(b));
  const shown = whole ? all : all.slice(0, 50);
  return (
    <section aria-labelledby="incoming">
      <h2 id="incoming" className="head mt-8 border-b border-ink">
        What comes in
      </h2>
      <Trouble error={list.error} />
      {list.data && all.length === 0 ? (
        <p className="py-2 text-sm text-faint">Nothing comes from other sites, and nothing did.</p>
      ) : (
        <Wide label="What comes in">
          <table className="plain stack">
            <thead>
              <tr>
                <th scope="col">From</th>
                <th scope="col">Volume</th>
                <th scope="col">State</th>
                <th scope="col">Copies</th>
                <th scope="col">Newest taken</th>
                <th scope="col">Last arrived</th>
              </tr>
            </thead>
            <tbody>
              {shown.map((v) => (
                <tr key={`${v.from} ${v.volume}`}>
                  <td>{v.from}</td>
                  <td className="font-semibold">
                    {v.copies > 0 ? (
                      <Link className="quiet" to={`/volumes/${encodeURIComponent(v.volume)}`}>
                        {v.volume}
                      </Link>
                    ) : (
                      v.volume
                    )}
                  </td>
                  <td className={v.state === "refused" || v.state === "no line" ? "text-hand" : ""}>
                    <StateOf v={v} />
                  </td>
                  <td data-label="copies">{v.copies}</td>
                  <td data-label="newest taken" className="whitespace-nowrap font-mono">
                    {v.newest ? stamp(v.newest) : "-"}
                  </td>
                  <td data-label="last arrived" className="whitespace-nowrap font-mono">
                    {v.lastArrived ? stamp(v.lastArrived) : "-"}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </Wide>
      )}
      {shown.length < all.length && (
        <button className="press mt-2" onClick={() => setWhole(true)}>
          Show all {all.length}
        </button>
      )}
    </section>
  );
}

function StateOf({ v }: { v: Incoming }) {
  if (v.state === "coming")
    return (
      <>
        coming since {stamp(v.since!)}: {size(v.doneBytes ?? 0)} so far{v.rate ? `, ${size(v.rate)} a second` : ""}
      </>
    );
  if (v.state === "refused")
    return (
      <>
        ▲ refused since {stamp(v.since!)}: {v.refused}
      </>
    );
  return <>{v.state === "no line" ? "▲ no line" : v.state}</>;
}
