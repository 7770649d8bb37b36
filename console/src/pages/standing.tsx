import { useQuery } from "@tanstack/react-query";
import { useState } from "react";

import { api, type Schemas, told } from "../api/client";
import { Trouble, Waiting } from "../parts/ui";
import { size } from "../parts/words";
import { RestoreSheet } from "./restore";

type Standing = Schemas["Standing"];

/** How long something takes, roughly. */
function about(seconds: number): string {
  return seconds < 120
    ? `${seconds} s`
    : seconds < 7200
      ? `${Math.round(seconds / 60)} min`
      : `${Math.round(seconds / 3600)} h`;
}

/** What stands for the chosen moment at each site; other sites are asked when someone wants to know. */
export function StandingElsewhere({ volume, at, inPlace }: { volume: string; at: string; inPlace: boolean }) {
  const [asked, setAsked] = useState(false);
  const [from, setFrom] = useState<Standing | null>(null);
  const asking = useQuery({
    queryKey: ["as-of", volume, at],
    queryFn: () => told(api.GET("/volumes/{name}/as-of", { params: { path: { name: volume }, query: { at } } })),
    enabled: asked,
  });
  const places = asking.data?.places ?? [];
  return (
    <section className="my-5 text-sm">
      <h2 className="head border-b border-ink">Who has this moment</h2>
      {!asked && (
        <p className="py-2">
          <button className="press" onClick={() => setAsked(true)}>
            Ask the other sites
          </button>
        </p>
      )}
      {asked && asking.isPending && <Waiting what="the other sites" />}
      <Trouble error={asking.error} />
      {asking.data && <p className="py-2 font-say text-base">{asking.data.sentence}</p>}
      {places.map((p, i) => (
        <div key={p.site} className="border-b border-rule py-1.5">
          <p>
            <span className="font-semibold">{p.site}</span>
            {p.site === asking.data?.best ? <span className="text-faint"> nearest</span> : null}
          </p>
          {p.silent ? (
            <p className="text-hand">does not tell: {p.silent}</p>
          ) : (
            <p>
              {p.answer}
              {p.snapshot ? (
                <span className="text-faint">
                  ; {size(p.bytes)}
                  {p.seconds ? `, all of it back in about ${about(p.seconds)} at most` : ""}
                </span>
              ) : null}
            </p>
          )}
          {i > 0 && p.snapshot && !p.here && (
            <button className="quiet" onClick={() => setFrom(p)}>
              bring the volume back from {p.site}
            </button>
          )}
        </div>
      ))}
      {from && (
        <RestoreSheet
          volume={volume}
          at={from.snapshot!}
          of={from.taken}
          from={from.site}
          paths={[]}
          inPlace={inPlace}
          close={() => setFrom(null)}
        />
      )}
    </section>
  );
}
