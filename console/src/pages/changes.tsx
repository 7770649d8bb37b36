import { useQuery } from "@tanstack/react-query";
import { useState } from "react";

import { api, type Schemas, told } from "../api/client";
import { Trouble, Waiting } from "../parts/ui";
import { readMoment, size, stamp } from "../parts/words";
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

/** What differs between the chosen moment and another, or now. */
export function Changes({ volume, at, here }: { volume: string; at: string; here: boolean }) {
  const [to, setTo] = useState("");
  const [text, setText] = useState("");
  const [versions, setVersions] = useState("");
  const wanted = to ? readMoment(to) : undefined;
  const until = to ? (wanted?.toISOString() ?? "") : here ? "now" : "latest";
  const from = at === "latest" ? "" : at;
  const c = useQuery({
    queryKey: ["comparison", volume, from, until],
    queryFn: () =>
      told(
        api.GET("/volumes/{name}/comparison", {
          params: { path: { name: volume }, query: { from: from || "latest", to: until } },
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
        }}
      >
        <span>From {from ? stamp(from) : "the newest snapshot"} (chosen on the ruler) to</span>
        <input
          className="field"
          aria-label="Until"
          placeholder={here ? "now, or a moment" : "the newest, or a moment"}
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
      {versions && <VersionsSheet volume={volume} path={versions} inPlace={here} close={() => setVersions("")} />}
    </div>
  );
}

function amount(d: Difference): string {
  if ((d.new ?? d.old)?.kind !== "file") return "";
  if (d.what === "changed" && d.old && d.new) return `${size(d.old.size)} → ${size(d.new.size)}`;
  return size((d.new ?? d.old)!.size);
}
