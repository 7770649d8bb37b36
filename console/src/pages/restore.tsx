import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";

import { api, once, type RestoreAsk, type RestoreResult, told } from "../api/client";
import { Choose } from "../parts/choose";
import { useRun, worked } from "../api/run";
import { Pick } from "../parts/pick";
import { Command, Field, Progress, Sheet, Trouble } from "../parts/ui";
import { stamp } from "../parts/times";
import { instant, size, word } from "../parts/words";
import { UndoButton } from "./undo";

type Conflict = NonNullable<RestoreAsk["onConflict"]>;
const choices: [Conflict, string][] = [
  ["skip", "leave what is there"],
  ["replace", "replace what is there"],
  ["older", "replace only what is older"],
  ["keep-both", "keep both, the restored one with a suffix"],
];

/** Says what will happen, then does it and shows it happen. */
export function RestoreSheet({
  volume,
  at,
  of,
  from,
  paths,
  inPlace,
  own,
  replace,
  other,
  close,
}: {
  volume: string;
  at: string;
  of?: string;
  from?: string;
  paths: string[];
  inPlace: boolean;
  own?: boolean;
  replace?: boolean;
  /** The volume that it is first thought to go into. */
  other?: string;
  close: (done: boolean) => void;
}) {
  const [where, setWhere] = useState<"place" | "into" | "beside" | "tar" | "zip">(
    other ? "into" : inPlace ? "place" : "beside",
  );
  const [to, setTo] = useState("");
  const [into, setInto] = useState(other ?? "");
  const volumes = useQuery({ queryKey: ["volumes"], queryFn: () => told(api.GET("/volumes")), enabled: !own });
  const others = (volumes.data ?? []).filter((v) => v.protected && v.name !== volume).map((v) => v.name);
  const [conflict, setConflict] = useState<Conflict>(paths.length && !replace ? "skip" : "replace");
  const ask: RestoreAsk = {
    volume,
    at,
    paths,
    ...(where === "place" ? { inPlace: true } : where === "into" ? { into: into || others[0] || "" } : { to }),
    onConflict: conflict,
    ...(from ? { from } : {}),
  };
  const plan = useMutation({ mutationFn: () => told(api.POST("/restores/plan", { body: ask, headers: once() })) });
  const start = useMutation({ mutationFn: () => told(api.POST("/restores", { body: ask, headers: once() })) });
  const id = start.data?.id;
  const run = useRun(id);
  const change = (f: () => void) => {
    f();
    plan.reset();
  };
  const p = plan.data;
  const archive = new URLSearchParams([
    ["at", at],
    ["form", where === "zip" ? "zip" : "tar"],
    ...paths.map((x): [string, string] => ["path", x]),
  ]);
  const tar = `/api/v1/volumes/${encodeURIComponent(volume)}/archive?${archive}`;
  const download = where === "tar" || where === "zip";
  const atText = at === "latest" ? "latest" : of ? at.slice(0, 12) : instant(at);
  const target =
    where === "place"
      ? "--in-place"
      : where === "into"
        ? `--into ${word(into || others[0] || "VOLUME")}`
        : download
          ? `--${where} FILE`
          : `--to ${word(to || "DIR")}`;
  const cli = [
    "candid restore",
    ...[volume, ...paths].map(word),
    `--at ${atText}`,
    target,
    ...(download ? [] : [`--on-conflict ${conflict}`]),
    ...(from ? [`--from-site ${word(from)}`] : []),
  ].join(" ");
  const what =
    paths.length === 0 ? `the whole of ${volume}` : paths.length === 1 ? paths[0] : `${paths.length} picked paths`;
  return (
    <Sheet title={`Bring back ${what}`} open close={() => close(!!run.data?.ended)} wide>
      <p className="text-sm text-faint">
        {at === "latest" ? "In its newest state." : `As of ${stamp(of ?? at, true)}.`}
        {from && ` From ${from}: only what this site lacks is fetched.`}
      </p>
      {!id && (
        <>
          <fieldset className="my-3 text-sm">
            <legend className="font-semibold">Where to</legend>
            {inPlace && (
              <label className="block">
                <input
                  type="radio"
                  name="where"
                  checked={where === "place"}
                  onChange={() => change(() => setWhere("place"))}
                />{" "}
                back where it was; a safety snapshot is taken first
              </label>
            )}
            {others.length > 0 && (
              <label className="block">
                <input
                  type="radio"
                  name="where"
                  checked={where === "into"}
                  onChange={() => {
                    change(() => setWhere("into"));
                    setConflict("skip");
                  }}
                />{" "}
                into another volume, at the same paths; a safety snapshot of it is taken first
              </label>
            )}
            {!own && (
              <label className="block">
                <input
                  type="radio"
                  name="where"
                  checked={where === "beside"}
                  onChange={() => change(() => setWhere("beside"))}
                />{" "}
                to another directory of this site's host
              </label>
            )}
            {!from && (
              <>
                <label className="block">
                  <input
                    type="radio"
                    name="where"
                    checked={where === "tar"}
                    onChange={() => change(() => setWhere("tar"))}
                  />{" "}
                  download as a tar archive, with everything that was recorded
                </label>
                <label className="block">
                  <input
                    type="radio"
                    name="where"
                    checked={where === "zip"}
                    onChange={() => change(() => setWhere("zip"))}
                  />{" "}
                  download as a ZIP archive, without owners and attributes
                </label>
              </>
            )}
          </fieldset>
          {where === "into" && (
            <Field label="Volume">
              <Pick label="Volume" value={into || others[0]} names={others} pick={(v) => change(() => setInto(v))} />
            </Field>
          )}
          {where === "beside" && (
            <Field label="Directory" help="It lies below one of the site's roots; it need not exist.">
              <input
                className="field w-full font-mono"
                value={to}
                onChange={(e) => change(() => setTo(e.target.value))}
              />
            </Field>
          )}
          {!download && (
            <Field label="What is there already and differs">
              <Choose
                label="What is there already and differs"
                value={conflict}
                options={choices.map(([k, t]) => ({ value: k, label: t }))}
                choose={(v) => change(() => setConflict(v))}
              />
              {where === "place" && paths.length === 0 && conflict === "replace" && (
                <span className="block text-hand">
                  The volume becomes exactly as it was: what was made since is removed. It stays in the safety snapshot.
                </span>
              )}
            </Field>
          )}
        </>
      )}
      <Trouble error={plan.error ?? start.error ?? run.error} />
      {p && !id && (
        <section aria-label="Plan" className="my-3 border border-rule bg-sheet p-3 text-sm">
          <p className="font-say text-base">
            What would be done: {p.summary}; {size(p.bytes)} to write, {size(p.freeBytes)} are free.
          </p>
          {p.bytes > p.freeBytes && (
            <p className="font-semibold text-hand">
              There is not room for it: make room first, choose fewer paths, or another directory.
            </p>
          )}
          {p.from && (
            <p>
              The snapshot is at {p.from}: at most {size(p.fetchBytes ?? 0)} would be fetched from there, before
              compression.
            </p>
          )}
          <p className="text-faint">
            {p.answer}; into <span className="font-mono">{p.target}</span>
          </p>
          {p.skipped > 0 && conflict === "skip" && (
            <p className="text-hand">
              {p.skipped === 1
                ? "One name is there already and differs: it is"
                : `${p.skipped} names are there already and differ: they are`}{" "}
              left as {p.skipped === 1 ? "it is" : "they are"}. Choose to replace what is there to have{" "}
              {p.skipped === 1 ? "it" : "them"} as {p.skipped === 1 ? "it was" : "they were"}.
            </p>
          )}
          <Names
            list={(p.acts ?? []).map((a) => [a.what, a.path])}
            all={p.created + p.replaced + p.removed + p.adjusted + p.skipped + p.failed}
            what="name"
          />
          <Remarks result={p} />
        </section>
      )}
      {run.data && (
        <section aria-live="polite" className="my-3">
          {run.data.ended ? (
            <p className={`font-say ${worked(run.data) ? "" : "text-hand"}`}>
              {run.data.state}: {run.data.outcome}
            </p>
          ) : (
            <Progress run={run.data} />
          )}
          {run.data.ended && <Remarks result={run.data.result as RestoreResult | undefined} />}
          <span className="flex gap-4 text-sm">
            {!own && (
              <Link className="quiet" to={`/runs/${id}`}>
                The run and its log
              </Link>
            )}
            <UndoButton run={run.data} />
          </span>
        </section>
      )}
      <div className="mt-4 flex flex-wrap items-baseline gap-3">
        {download && !id && (
          <a className="press" href={tar} download>
            Download
          </a>
        )}
        {!download && !id && !p && (
          <button
            className="press"
            onClick={() => plan.mutate()}
            disabled={plan.isPending || (where === "beside" && !to)}
          >
            {plan.isPending ? "Looking …" : "See what would happen"}
          </button>
        )}
        {p && !id && (
          <button className="press press-hand" onClick={() => start.mutate()} disabled={start.isPending}>
            Do it
          </button>
        )}
        <button className="quiet text-sm" onClick={() => close(!!run.data?.ended)}>
          {id ? "Close" : "Not now"}
        </button>
      </div>
      <p className="mt-4 border-t border-rule pt-2">
        <Command text={cli} />
      </p>
    </Sheet>
  );
}

/** The first of many lines, and how many there are. */
function Names({ list, all, what }: { list: [string, string][]; all: number; what: string }) {
  if (list.length === 0) return null;
  return (
    <>
      <p className="mt-2 text-faint">
        {all === 1 ? `One ${what}` : `${all} ${what}s`}
        {all > list.length ? `, the first ${list.length} of them` : ""}:
      </p>
      <ul className="max-h-40 overflow-y-auto font-mono text-xs" tabIndex={0} aria-label={`${what}s`}>
        {list.map(([head, text], i) => (
          <li key={i}>
            <span className="mr-3 inline-block min-w-16">{head}</span>
            {text}
          </li>
        ))}
      </ul>
    </>
  );
}

/** What could not be brought back, or not as it was recorded. */
function Remarks({ result }: { result?: RestoreResult }) {
  return (
    <Names list={(result?.remarks ?? []).map((m) => [m.path, m.what])} all={result?.remarkCount ?? 0} what="remark" />
  );
}
