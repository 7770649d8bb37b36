import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";

import { api, once, type Schemas, told } from "../api/client";
import { Choose } from "../parts/choose";
import { Buttons, Field, Sheet, Trouble } from "../parts/ui";
import { stamp } from "../parts/times";
import { many, size, word } from "../parts/words";

/** Files that carry snapshots where no network does. */
export function Crates({ routes }: { routes: Schemas["Route"][] }) {
  const [open, setOpen] = useState<"" | "write" | "load">("");
  const push = routes.filter((r) => !r.pull);
  return (
    <section aria-labelledby="crates">
      <div className="mt-8 flex flex-wrap items-baseline gap-3 border-b border-ink">
        <h2 id="crates" className="head">
          Crates
        </h2>
        <span className="ml-auto flex gap-4 text-sm">
          {push.length > 0 && (
            <button className="quiet" onClick={() => setOpen("write")}>
              write one
            </button>
          )}
          <button className="quiet" onClick={() => setOpen("load")}>
            load one
          </button>
        </span>
      </div>
      <p className="py-2 text-sm text-faint">
        A crate is a file on this site's host that carries what a route still has to carry: the first copies of a large
        volume by courier, say. The route then goes on with changes only.
      </p>
      {open === "write" && <WriteCrate routes={push} close={() => setOpen("")} />}
      {open === "load" && <LoadCrate close={() => setOpen("")} />}
    </section>
  );
}

function WriteCrate({ routes, close }: { routes: Schemas["Route"][]; close: () => void }) {
  const go = useNavigate();
  const [route, setRoute] = useState(routes[0]?.name ?? "");
  const [path, setPath] = useState("");
  const [gib, setGib] = useState("");
  const [seal, setSeal] = useState(true);
  const write = useMutation({
    mutationFn: () =>
      told(
        api.POST("/crates", {
          body: { path, route, seal, partBytes: gib ? Math.round(Number(gib) * 2 ** 30) : undefined },
          headers: once(),
        }),
      ),
    onSuccess: (r) => void go(`/runs/${r.id}`),
  });
  const command = [
    `candid crate write ${path ? word(path) : "PATH"} --route ${word(route)}`,
    seal && "--seal",
    gib && `--part-size ${word(`${gib} GiB`)}`,
  ];
  return (
    <Sheet title="Write a crate" open close={close}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          write.mutate();
        }}
      >
        <div className="my-3 flex flex-wrap items-baseline gap-x-3 text-sm">
          <span className="font-semibold">What the route still has to carry</span>
          <Choose
            label="Route"
            value={route}
            choose={setRoute}
            options={routes.map((r) => ({ value: r.name, label: `${r.name}, to ${r.to}` }))}
          />
        </div>
        <Field label="File" help="A new file on this site's host, below one of its roots, such as on a drive.">
          <input className="field w-full font-mono" value={path} onChange={(e) => setPath(e.target.value)} required />
        </Field>
        <Field label="Split into parts of about, in GiB" help="Empty: one file.">
          <input
            className="field w-32"
            type="number"
            min="0.001"
            step="any"
            value={gib}
            onChange={(e) => setGib(e.target.value)}
          />
        </Field>
        <label className="my-3 flex items-baseline gap-2 text-sm">
          <input type="checkbox" checked={seal} onChange={(e) => setSeal(e.target.checked)} />
          Only the site at the route's other end can open it
        </label>
        <Trouble error={write.error} />
        <Buttons does="Write it" busy={write.isPending} close={close} command={command.filter(Boolean).join(" ")} />
      </form>
    </Sheet>
  );
}

function LoadCrate({ close }: { close: () => void }) {
  const go = useNavigate();
  const [text, setText] = useState("");
  const paths = text
    .split("\n")
    .map((l) => l.trim())
    .filter(Boolean);
  const look = useMutation({
    mutationFn: () => Promise.all(paths.map((path) => told(api.GET("/crates", { params: { query: { path } } })))),
  });
  const load = useMutation({
    mutationFn: () => told(api.POST("/crates/load", { body: { paths }, headers: once() })),
    onSuccess: (r) => void go(`/runs/${r.id}`),
  });
  return (
    <Sheet title="Load a crate" open close={close}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          if (look.data) load.mutate();
          else look.mutate();
        }}
      >
        <Field label="Files" help="On this site's host, a part a line, in their order.">
          <textarea
            className="field w-full font-mono"
            rows={3}
            value={text}
            onChange={(e) => {
              setText(e.target.value);
              look.reset();
              load.reset();
            }}
            required
          />
        </Field>
        {(look.data ?? []).map((c) => (
          <div key={c.id + c.part} className="my-2 text-sm" role="status">
            <p>
              Part {c.part}, written at {c.site} {stamp(c.made)}: {many((c.snapshots ?? []).length, "snapshot")},{" "}
              {size((c.snapshots ?? []).reduce((n, s) => n + s.bytes, 0))},{" "}
              {(c.snapshots ?? []).filter((s) => s.here).length} here already.
            </p>
            {(c.missing ?? []).length > 0 && (
              <p className="border-l-4 border-hand pl-3">
                It builds on {many(c.missing!.length, "snapshot")} that are not here, so it cannot be loaded.
              </p>
            )}
          </div>
        ))}
        <Trouble error={look.error ?? load.error} />
        <Buttons
          does={look.data ? "Load it" : "See what is in it"}
          busy={paths.length === 0 || look.isPending || load.isPending}
          close={close}
          command={`candid crate load ${paths.length ? paths.map(word).join(" ") : "PATH"}`}
        />
      </form>
    </Sheet>
  );
}
