import { useQuery } from "@tanstack/react-query";
import { useState } from "react";

import { api, type Schemas, told } from "../api/client";
import { Trouble } from "./ui";
import { many, size } from "./words";

type Entry = Schemas["HostEntry"];

/** Characters that mean something in a glob stand for themselves. */
export const plainGlob = (path: string) => path.replace(/[\\*?[\]{}]/g, "\\$&");

/** How much is below a name, in words. */
export function held(e: Entry): string {
  if (e.mount) return "another filesystem is mounted there";
  if (e.closed) return "the service cannot read it";
  const words = e.dir ? `${size(e.bytes)}, ${many(e.files, "file")}` : size(e.bytes);
  return e.atLeast ? `at least ${words}` : words;
}

type Choice =
  | { kind: "one"; chosen: string; choose: (path: string) => void }
  | { kind: "leave out"; top: string; out: string[]; change: (out: string[]) => void };

/** Directories of the host, opened as far as wanted, to choose one or what is left out. */
export function HostTree({ path, choice, level = 1 }: { path: string; choice: Choice; level?: number }) {
  const list = useQuery({
    queryKey: ["directories", path],
    queryFn: ({ signal }) => told(api.GET("/directories", { params: { query: { path } }, signal })),
    staleTime: 60_000,
  });
  if (list.isPending) return <p className="py-1 text-sm text-faint">Looking …</p>;
  if (list.error) return <Trouble error={list.error} />;
  const all = (list.data.entries ?? []).filter((e) => choice.kind === "leave out" || e.dir);
  if (all.length === 0)
    return (
      <p className="py-1 text-sm text-faint">{choice.kind === "one" ? "No directory in it." : "Nothing is in it."}</p>
    );
  return (
    <ul className={level > 1 ? "ml-5 border-l border-rule pl-2" : ""}>
      {all.slice(0, 200).map((e) => (
        <Branch key={e.path} entry={e} choice={choice} level={level} atTop={path === ""} />
      ))}
      {(all.length > 200 || list.data.more) && (
        <li className="text-sm text-faint">and smaller ones that are not listed</li>
      )}
    </ul>
  );
}

function Branch({ entry: e, choice, level, atTop }: { entry: Entry; choice: Choice; level: number; atTop: boolean }) {
  const [open, setOpen] = useState(false);
  const enters = e.dir && !e.closed;
  return (
    <li className="text-sm">
      <div className="flex flex-wrap items-baseline gap-x-2 py-0.5">
        {enters ? (
          <button
            type="button"
            className="min-h-6 min-w-6 cursor-pointer"
            aria-expanded={open}
            aria-label={`${open ? "Close" : "Open"} ${e.name}`}
            onClick={() => setOpen(!open)}
          >
            {open ? "▾" : "▸"}
          </button>
        ) : (
          <span className="min-w-6" />
        )}
        <Chosen entry={e} choice={choice} />
        {!atTop && <span className="text-faint">{held(e)}</span>}
        {e.volume && choice.kind === "one" && <span className="text-faint">protected by {e.volume}</span>}
        {(e.holds ?? 0) > 0 && choice.kind === "one" && (
          <span className="text-faint">{many(e.holds!, "volume")} below it</span>
        )}
      </div>
      {open && <HostTree path={e.path} choice={choice} level={level + 1} />}
    </li>
  );
}

function Chosen({ entry: e, choice }: { entry: Entry; choice: Choice }) {
  if (choice.kind === "one")
    return (
      <label className="inline-flex min-h-6 items-baseline gap-1.5 font-mono">
        <input
          type="radio"
          name="directory"
          checked={choice.chosen === e.path}
          onChange={() => choice.choose(e.path)}
          disabled={!!e.volume}
        />
        {e.name}
      </label>
    );
  const glob = "/" + plainGlob(e.path.slice(choice.top.length).replace(/^\//, ""));
  const out = choice.out.includes(glob);
  return (
    <label className="inline-flex min-h-6 items-baseline gap-1.5 font-mono">
      <input
        type="checkbox"
        checked={!out}
        aria-label={`Take ${e.name}`}
        onChange={() => choice.change(out ? choice.out.filter((g) => g !== glob) : [...choice.out, glob])}
      />
      <span className={out ? "line-through" : ""}>{e.name}</span>
    </label>
  );
}
