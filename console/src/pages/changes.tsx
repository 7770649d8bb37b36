import { useQuery } from "@tanstack/react-query";
import { useState } from "react";

import { api, type Schemas, told } from "../api/client";
import { Choose } from "../parts/choose";
import { Command, Trouble, Waiting } from "../parts/ui";
import { readMoment, stamp } from "../parts/times";
import { instant, many, size, word } from "../parts/words";
import { Pick } from "../parts/pick";
import { RestoreSheet } from "./restore";
import { VersionsSheet } from "./versions";
import { Wide } from "../parts/wide";

type Difference = Schemas["Difference"];
const words: Record<Difference["what"], string> = {
  added: "came",
  removed: "went",
  changed: "changed",
  renamed: "renamed",
  adjusted: "rights or time",
};

/** Where it was on the first side; empty: it was not there, so there is nothing to bring back. */
const before = (d: Difference) => (d.old ? d.from || d.path : "");

/**
 * What differs between the chosen moment, here or at another site, and another moment or now, of this volume or of
 * another one; what was otherwise can be ticked and brought back.
 */
export function Changes({ volume, at, here }: { volume: string; at: string; here: boolean }) {
  const [to, setTo] = useState("");
  const [text, setText] = useState("");
  const [versions, setVersions] = useState("");
  const [site, setSite] = useState("");
  const [other, setOther] = useState("");
  const [ticked, setTicked] = useState<ReadonlySet<string>>(new Set());
  const [restoring, setRestoring] = useState(false);
  const sites = useQuery({ queryKey: ["sites"], queryFn: () => told(api.GET("/sites")) });
  const volumes = useQuery({ queryKey: ["volumes"], queryFn: () => told(api.GET("/volumes")) });
  const others = (volumes.data ?? []).filter((v) => v.name !== volume && v.kind === "tree");
  const beside = others.find((v) => v.name === other);
  const nowHere = other ? !!beside?.protected : here;
  const wanted = to ? readMoment(to) : undefined;
  const until = to ? (wanted?.toISOString() ?? "") : nowHere ? "now" : "latest";
  const from = at === "latest" ? "" : at;
  const c = useQuery({
    queryKey: ["comparison", volume, from, site, until, other],
    queryFn: () =>
      told(
        api.GET("/volumes/{name}/comparison", {
          params: {
            path: { name: volume },
            query: { from: from || "latest", fromSite: site || undefined, to: until, with: other || undefined },
          },
        }),
      ),
    enabled: until !== "",
    retry: false,
  });
  return (
    <div>
      <form
        className="flex flex-wrap items-center gap-3 border-b border-ink py-2 text-sm"
        onSubmit={(e) => {
          e.preventDefault();
          setTo(text.trim());
          setTicked(new Set());
        }}
      >
        <span>From {from ? stamp(from) : "the newest snapshot"} (chosen on the ruler)</span>
        {(sites.data ?? []).length > 0 && (
          <Choose
            label="Whose copy"
            value={site}
            options={[
              { value: "", label: "here" },
              ...sites.data!.map((s) => ({ value: s.name, label: `at ${s.name}` })),
            ]}
            choose={(s) => {
              setSite(s);
              setTicked(new Set());
            }}
          />
        )}
        <span>to</span>
        {others.length > 0 && (
          <Pick
            label="Which volume"
            value={other}
            names={others.map((v) => v.name)}
            none="the same volume"
            pick={(v) => {
              setOther(v);
              setTicked(new Set());
            }}
          />
        )}
        <input
          className="field"
          aria-label="Until"
          placeholder={nowHere ? "now, or a moment" : "the newest, or a moment"}
          value={text}
          onChange={(e) => setText(e.target.value)}
        />
        <button className="press">Compare</button>
      </form>
      {to && !wanted && (
        <p role="alert" className="py-2 text-sm text-hand">
          {to} is no moment: write 2026-03-04 14:05, or -2h.
        </p>
      )}
      <Trouble error={c.error} />
      {c.isPending && until !== "" && <Waiting what={until === "now" ? "the volume as it is now" : "both moments"} />}
      {c.data && (
        <>
          <p className="py-2 text-sm" aria-live="polite">
            {(c.data.changes ?? []).length === 0
              ? "Nothing differs."
              : `${c.data.summary}; ${size(c.data.addedBytes)} came, ${size(c.data.removedBytes)} went.`}
            {c.data.cut && ` The first ${(c.data.changes ?? []).length} are shown.`}{" "}
            <span className="text-faint">
              {c.data.from.answer}; {c.data.to.snapshot ? c.data.to.answer : "as it is now"}.
            </span>
          </p>
          {(c.data.changes ?? []).length > 0 && (
            <Wide label="Changes">
              <table className="plain">
                <thead>
                  <tr>
                    <th scope="col" className="w-8">
                      <span className="sr-only">Bring back</span>
                    </th>
                    <th scope="col">What</th>
                    <th scope="col">Path</th>
                    <th scope="col" className="text-right!">
                      Size
                    </th>
                  </tr>
                </thead>
                <tbody>
                  {(c.data.changes ?? []).map((d) => (
                    <tr key={d.what + d.path}>
                      <td>
                        {before(d) && (
                          <input
                            type="checkbox"
                            aria-label={`Choose ${before(d)}`}
                            checked={ticked.has(before(d))}
                            onChange={() => {
                              const next = new Set(ticked);
                              if (!next.delete(before(d))) next.add(before(d));
                              setTicked(next);
                            }}
                          />
                        )}
                      </td>
                      <td className={`whitespace-nowrap ${d.what === "removed" ? "text-hand" : ""}`}>
                        {words[d.what]}
                      </td>
                      <td className="break-all">
                        {d.from && <span className="text-faint">{d.from} → </span>}
                        <button className="quiet text-left" title="its versions" onClick={() => setVersions(d.path)}>
                          {d.path}
                          {(d.new ?? d.old)?.kind === "directory" ? "/" : ""}
                        </button>
                      </td>
                      <td className="text-right whitespace-nowrap">{amount(d)}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </Wide>
          )}
        </>
      )}
      <p className="mt-3 flex flex-wrap items-baseline gap-3 text-sm">
        {ticked.size > 0 && c.data && (
          <button className="press" onClick={() => setRestoring(true)}>
            Bring back {many(ticked.size, "path")} as of {stamp(c.data.from.at)}
          </button>
        )}
        <Command
          text={[
            "candid compare",
            word(volume),
            `--from ${from ? instant(from) : "latest"}`,
            site && `--from-site ${word(site)}`,
            to && `--to ${wanted ? instant(wanted) : word(to)}`,
            other && `--with ${word(other)}`,
          ]
            .filter(Boolean)
            .join(" ")}
        />
      </p>
      {restoring && c.data && (
        <RestoreSheet
          volume={volume}
          at={c.data.from.snapshot!}
          of={c.data.from.at}
          from={site || undefined}
          paths={[...ticked]}
          inPlace={here}
          replace
          other={other && beside?.protected ? other : undefined}
          close={(done) => {
            setRestoring(false);
            if (done) {
              setTicked(new Set());
              void c.refetch();
            }
          }}
        />
      )}
      {versions && <VersionsSheet volume={volume} path={versions} inPlace={here} close={() => setVersions("")} />}
    </div>
  );
}

function amount(d: Difference): string {
  if ((d.new ?? d.old)?.kind !== "file") return "";
  if (d.what === "changed" && d.old && d.new) return `${size(d.old.size)} → ${size(d.new.size)}`;
  return size((d.new ?? d.old)!.size);
}
