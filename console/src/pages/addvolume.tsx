import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";

import { api, once, type Schemas, told } from "../api/client";
import { HostTree } from "../parts/hosttree";
import { Buttons, Field, Sheet, Trouble } from "../parts/ui";
import { many, size, word } from "../parts/words";
import { pairsOf } from "./noted";

const plain = (name: string) =>
  name
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, "-")
    .replace(/^-|-$/g, "")
    .slice(0, 50);

/** A name for a volume after its directory, that none has. */
function nameAfter(path: string, taken: ReadonlySet<string>) {
  const parts = path.split("/").filter(Boolean);
  const own = plain(parts.at(-1) ?? "");
  if (!taken.has(own)) return own;
  const longer = plain(parts.slice(-2).join("-"));
  if (!taken.has(longer)) return longer;
  for (let n = 2; ; n++) if (!taken.has(`${own}-${n}`)) return `${own}-${n}`;
}

/** Protects a directory: what is there is looked at first, and nothing is stored before it was. */
export function AddVolume({ close, path: first = "" }: { close: () => void; path?: string }) {
  const queries = useQueryClient();
  const [name, setName] = useState("");
  const [path, setPath] = useState(first);
  const [labels, setLabels] = useState("");
  const [out, setOut] = useState<string[]>([]);
  const [looking, setLooking] = useState(first === "");
  const volumes = useQuery({ queryKey: ["volumes"], queryFn: () => told(api.GET("/volumes")) });
  const offered = nameAfter(path, new Set((volumes.data ?? []).map((v) => v.name)));
  const called = name || offered;
  const [found, setFound] = useState<Schemas["VolumeFound"] | null>(null);
  const ask = (dryRun: boolean, excludes: string[]) =>
    told(
      api.POST("/volumes", {
        body: { name: called, path, labels: pairsOf(labels), excludes, dryRun },
        headers: once(),
      }),
    );
  const look = useMutation({
    mutationFn: (leave: string[]) => ask(true, leave),
    onSuccess: (f) => {
      setFound(f);
      setLooking(false);
    },
  });
  const add = useMutation({ mutationFn: () => ask(false, out), onSuccess: () => queries.invalidateQueries() });
  const again = () => {
    setFound(null);
    look.reset();
    add.reset();
  };
  const command = [
    `candid volume add ${called || "NAME"} --path ${path ? word(path) : "DIR"}`,
    ...Object.entries(pairsOf(labels)).map(([k, v]) => `--label ${word(`${k}=${v}`)}`),
    ...out.map((g) => `--exclude ${word(g)}`),
  ];
  if (add.data)
    return (
      <Sheet title={`${add.data.volume.name} is protected`} open close={close}>
        <FoundThere found={add.data} />
        <div className="mt-4">
          <Link className="press" to={`/volumes/${encodeURIComponent(add.data.volume.name)}`} onClick={close}>
            Go to the volume
          </Link>
        </div>
      </Sheet>
    );
  return (
    <Sheet title="Protect a directory" open close={close}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          if (found) add.mutate();
          else look.mutate(out);
        }}
      >
        <Field label="Directory" help="On this site's host, below one of its roots.">
          <input
            className="field w-full font-mono"
            value={path}
            onChange={(e) => {
              setPath(e.target.value);
              setOut([]);
              again();
            }}
            required
          />
        </Field>
        {looking ? (
          <div className="my-2 max-h-56 overflow-y-auto border border-rule p-2" tabIndex={0} aria-label="Directories">
            <HostTree
              path=""
              choice={{
                kind: "one",
                chosen: path,
                choose: (p) => {
                  setPath(p);
                  setOut([]);
                  again();
                },
              }}
            />
          </div>
        ) : (
          <button type="button" className="quiet text-sm" onClick={() => setLooking(true)}>
            choose another directory
          </button>
        )}
        <Field label="Name" help="Lower-case letters, digits and dashes.">
          <input
            className="field w-full"
            value={name}
            placeholder={offered}
            onChange={(e) => {
              setName(e.target.value);
              again();
            }}
          />
        </Field>
        <Field label="Labels" help="key=value, by which policies and routes choose.">
          <input
            className="field w-full"
            value={labels}
            onChange={(e) => {
              setLabels(e.target.value);
              again();
            }}
            placeholder="collection=herbarium"
          />
        </Field>
        {found && (
          <>
            <FoundThere found={found} />
            <details className="my-3 text-sm">
              <summary className="cursor-pointer">
                {out.length === 0 ? "All of it is taken: leave something out" : `${out.length} left out`}
              </summary>
              <div className="max-h-56 overflow-y-auto border border-rule p-2" tabIndex={0} aria-label="What is taken">
                <HostTree
                  path={found.volume.path}
                  choice={{
                    kind: "leave out",
                    top: found.volume.path,
                    out,
                    change: (o) => {
                      setOut(o);
                      look.mutate(o);
                    },
                  }}
                />
              </div>
            </details>
          </>
        )}
        <Trouble error={look.error ?? add.error} />
        <Buttons
          does={look.isPending ? "Looking …" : found ? "Protect it" : "See what is there"}
          busy={look.isPending || add.isPending || !path}
          close={close}
          command={command.join(" ")}
        />
      </form>
    </Sheet>
  );
}

/** What was found in a directory. */
export function FoundThere({ found }: { found: Schemas["VolumeFound"] }) {
  return (
    <div role="status">
      <p className="font-say text-lg">
        {many(found.files, "file")} in {many(found.directories, "directory", "directories")},{" "}
        {size(found.bytes) + ", on " + found.filesystem}.
      </p>
      <p className="my-2">
        The first snapshot needs at most {size(found.firstNeeds)}; {size(found.storeFree)} are free in the store.
      </p>
      <ul>
        {(found.warnings ?? []).map((w) => (
          <li key={w} className="my-2 border-l-4 border-hand pl-3 text-sm">
            {w}
          </li>
        ))}
      </ul>
    </div>
  );
}
