import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { api, once, told } from "../api/client";
import { held } from "../parts/hosttree";
import { Command, Field, Sheet, Trouble, Waiting } from "../parts/ui";
import { many, size, word } from "../parts/words";
import { pairsOf } from "./noted";

/** Directories of the host that nothing protects, to protect those that are chosen in one act. */
export function Uncovered({ close }: { close: () => void }) {
  const queries = useQueryClient();
  const list = useQuery({
    queryKey: ["uncovered"],
    queryFn: ({ signal }) => told(api.GET("/uncovered", { signal })),
    gcTime: 0,
  });
  const [picked, setPicked] = useState<ReadonlySet<string>>(new Set());
  const [labels, setLabels] = useState("");
  const protect = useMutation({
    mutationFn: () =>
      told(api.POST("/uncovered/protect", { body: { paths: [...picked], labels: pairsOf(labels) }, headers: once() })),
    onSuccess: () => queries.invalidateQueries(),
  });
  const all = list.data?.directories ?? [];
  const toggle = (path: string) => {
    const next = new Set(picked);
    if (!next.delete(path)) next.add(path);
    setPicked(next);
  };
  const command = [
    "candid volume uncovered --protect",
    picked.size > 0 && picked.size < all.length && (picked.size > 3 ? "DIR DIR" : [...picked].map(word).join(" ")),
    ...Object.entries(pairsOf(labels)).map(([k, v]) => `--label ${word(`${k}=${v}`)}`),
  ];
  const done = protect.data;
  return (
    <Sheet title="What nothing protects" open close={close}>
      {list.isPending && <Waiting what="the directories of this host" />}
      <Trouble error={list.error} />
      {done ? (
        <div role="status">
          <p className="font-say text-lg">{many(done.added?.length ?? 0, "volume")} added.</p>
          <ul className="my-2 text-sm">
            {(done.added ?? []).map((v) => (
              <li key={v.volume.name}>
                <strong>{v.volume.name}</strong>: {many(v.files, "file")}, {size(v.bytes)},{" "}
                {(v.volume.policies ?? []).length > 0
                  ? `by the policy ${v.volume.policies!.join(", ")}`
                  : "and no policy chooses it yet"}
              </li>
            ))}
            {(done.refused ?? []).map((r) => (
              <li key={r.path} className="text-hand">
                {r.path}: {r.why}
              </li>
            ))}
          </ul>
          <button className="press" onClick={close}>
            Close
          </button>
        </div>
      ) : list.data ? (
        <form
          onSubmit={(e) => {
            e.preventDefault();
            protect.mutate();
          }}
        >
          {all.length === 0 ? (
            <p>Every directory below the roots of this site is protected.</p>
          ) : (
            <ul
              className="max-h-72 overflow-y-auto border border-rule p-2 text-sm"
              tabIndex={0}
              aria-label="Directories"
            >
              {all.map((d) => (
                <li key={d.path} className="flex flex-wrap items-baseline gap-x-3 py-0.5">
                  <label className="inline-flex min-h-6 items-baseline gap-1.5 font-mono">
                    <input type="checkbox" checked={picked.has(d.path)} onChange={() => toggle(d.path)} />
                    {d.path}
                  </label>
                  <span className="text-faint">{held(d)}</span>
                </li>
              ))}
            </ul>
          )}
          {(list.data.loose ?? []).map((l) => (
            <p key={l.path} className="mt-2 text-sm">
              Directly in <span className="font-mono">{l.path}</span>, in none of its directories:{" "}
              {many(l.files, "file")}, {size(l.bytes)}.
            </p>
          ))}
          {list.data.more && <p className="mt-2 text-sm">There are more than are told here.</p>}
          {(list.data.filesystems ?? []).length > 0 && (
            <p className="mt-2 text-sm text-faint">
              Outside the roots, which site.yaml names:{" "}
              {list.data.filesystems!.map((m) => `${m.path} (${m.kind}, ${size(m.usedBytes)} used)`).join(", ")}.
            </p>
          )}
          {all.length > 0 && (
            <Field label="Labels for all of them" help="key=value, by which policies and routes choose.">
              <input className="field w-full" value={labels} onChange={(e) => setLabels(e.target.value)} />
            </Field>
          )}
          <Trouble error={protect.error} />
          <div className="mt-4 flex flex-wrap items-baseline gap-3">
            {all.length > 0 && (
              <button className="press" disabled={picked.size === 0 || protect.isPending}>
                {protect.isPending ? "Looking …" : `Protect ${picked.size || "those chosen"}`}
              </button>
            )}
            {picked.size < all.length && (
              <button type="button" className="quiet" onClick={() => setPicked(new Set(all.map((d) => d.path)))}>
                choose all
              </button>
            )}
            <button type="button" className="quiet" onClick={close}>
              Not now
            </button>
            <Command text={command.filter(Boolean).join(" ")} />
          </div>
        </form>
      ) : null}
    </Sheet>
  );
}
