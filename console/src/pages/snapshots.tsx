import { useInfiniteQuery, useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";

import { api, once, type Snapshot, told } from "../api/client";
import { useAddress } from "../parts/address";
import { Choose } from "../parts/choose";
import { useTyped } from "../parts/typed";
import { LongTable } from "../parts/longtable";
import { ByCommand, Field, Sheet, Trouble, Waiting } from "../parts/ui";
import { many, size, stamp, word } from "../parts/words";
import { CarrySheet } from "./carrychosen";
import { pairsOf } from "./noted";
import { Reason } from "./why";

const whiches = [
  { value: "", label: "all" },
  { value: "kept", label: "kept" },
  { value: "grace", label: "in grace" },
  { value: "marked", label: "marked to keep" },
  { value: "end", label: "with an end of their own" },
  { value: "turn", label: "out of turn" },
];
const causes = ["", "scheduled", "by hand", "safety", "left"].map((c) => ({ value: c, label: c || "any" }));

/** The snapshots of all volumes, to look through and to act on many. */
export function Snapshots() {
  const [get, set] = useAddress();
  const [picked, setPicked] = useState<ReadonlySet<string>>(new Set());
  const [text, setText] = useTyped(get("text"), (v) => set("text", v));
  const asked = { text: get("text"), which: get("which"), cause: get("cause") };
  const list = useInfiniteQuery({
    queryKey: ["snapshots", "of all", asked],
    queryFn: ({ pageParam, signal }) =>
      told(api.GET("/snapshots", { params: { query: { ...asked, after: pageParam, limit: 200 } }, signal })),
    initialPageParam: "",
    getNextPageParam: (last) => last.next || undefined,
    placeholderData: (old) => old,
  });
  const all = list.data?.pages.flatMap((p) => p.items ?? []) ?? [];
  const flags = Object.entries(asked).filter(([, v]) => v);
  return (
    <>
      <div className="my-5 flex flex-wrap items-baseline gap-x-4 gap-y-2">
        <h1 className="head">Snapshots</h1>
        <input
          className="field"
          aria-label="Look for"
          placeholder="in volume, note, reason, set"
          value={text}
          onChange={(e) => setText(e.target.value)}
        />
        <span className="inline-flex items-baseline gap-2 text-sm">
          State <Choose label="State" value={asked.which} options={whiches} choose={(v) => set("which", v)} />
        </span>
        <span className="inline-flex items-baseline gap-2 text-sm">
          Cause <Choose label="Cause" value={asked.cause} options={causes} choose={(v) => set("cause", v)} />
        </span>
      </div>
      <Trouble error={list.error} />
      {list.isPending && <Waiting what="snapshots" />}
      {list.data && all.length === 0 && (
        <p>{flags.length > 0 ? "No snapshot is like that." : "There are none yet: take one of a volume."}</p>
      )}
      {all.length > 0 && (
        <>
          <ForChosen chosen={all.filter((s) => picked.has(s.id))} clear={() => setPicked(new Set())} />
          <LongTable
            rows={all}
            keyOf={(s) => s.id}
            nameOf={(s) => `that of ${s.volume}, ${stamp(s.taken)}`}
            chosen={picked}
            choose={setPicked}
            head={
              <>
                <th scope="col">Taken</th>
                <th scope="col">Volume</th>
                <th scope="col">Cause</th>
                <th scope="col">New</th>
                <th scope="col">Noted</th>
                <th scope="col">Why it is here</th>
              </>
            }
            cells={(s) => <Cells s={s} />}
          />
          {list.hasNextPage && (
            <button className="press mt-2" onClick={() => void list.fetchNextPage()} disabled={list.isFetchingNextPage}>
              Show older
            </button>
          )}
        </>
      )}
      <ByCommand
        lines={[
          ["candid snapshot list", ...flags.map(([k, v]) => `--${k} ${word(v)}`)].join(" "),
          "candid snapshot keep ID ID --reason WHY",
          "candid snapshot change ID ID --label key=value",
          "candid snapshot carry ID ID --to SITE",
          "candid snapshot remove ID ID",
        ]}
      />
    </>
  );
}

function Cells({ s }: { s: Snapshot }) {
  return (
    <>
      <td className="whitespace-nowrap font-mono">
        <Link
          className="quiet"
          to={`/volumes/${encodeURIComponent(s.volume)}?at=${encodeURIComponent(
            new Date(Math.ceil(Date.parse(s.taken) / 1000) * 1000).toISOString(),
          )}`}
        >
          {stamp(s.taken)}
        </Link>
      </td>
      <td className="font-semibold">{s.volume}</td>
      <td>{s.cause}</td>
      <td data-label="new" className="whitespace-nowrap" title={`${s.bytes} bytes in all`}>
        {size(s.stored)}
      </td>
      <td>
        {s.note && <q>{s.note}</q>}{" "}
        {Object.entries(s.labels ?? {}).map((l) => (
          <span key={l[0]} className="mr-1 font-mono text-xs">
            {l.join("=")}
          </span>
        ))}
      </td>
      <td className="text-faint">
        {s.state === "kept" ? (s.reasons ?? []).join("; ") : `in grace until ${stamp(s.graceUntil!)}: ${s.letGo}`}
        {s.ownEnd && `; asked to stay until ${stamp(s.ownEnd)}`}
      </td>
    </>
  );
}

type Act = { name: string; does: string; of: (s: Snapshot) => boolean; hand?: boolean };

const acts: Act[] = [
  { name: "keep", does: "Keep", of: (s) => !s.keep },
  { name: "let-go", does: "Take the keep mark back", of: (s) => !!s.keep },
  { name: "label", does: "Label", of: () => true },
  { name: "recall", does: "Recall", of: (s) => s.state !== "kept" },
  { name: "remove", does: "Remove", of: (s) => s.state === "kept" && !s.keep, hand: true },
];

/** What can be done with all chosen snapshots; each act says of how many of them it can be done. */
function ForChosen({ chosen, clear }: { chosen: Snapshot[]; clear: () => void }) {
  const [act, setAct] = useState<Act | null>(null);
  const [carrying, setCarrying] = useState(false);
  const here = chosen.filter((s) => s.state === "kept");
  if (chosen.length === 0) return null;
  return (
    <div className="sticky top-0 z-10 my-2 border-y border-ink bg-paper py-2 text-sm" role="group" aria-label="Chosen">
      <p className="flex flex-wrap items-baseline gap-3">
        <span className="font-semibold">{chosen.length} chosen</span>
        {acts.map((a) => {
          const n = chosen.filter(a.of).length;
          return (
            n > 0 && (
              <button key={a.name} className={`press ${a.hand ? "press-hand" : ""}`} onClick={() => setAct(a)}>
                {a.does} {n}
              </button>
            )
          );
        })}
        {here.length > 0 && (
          <button className="press" onClick={() => setCarrying(true)}>
            Carry {here.length}
          </button>
        )}
        <button className="quiet" onClick={clear}>
          choose none
        </button>
      </p>
      {carrying && <CarrySheet snapshots={here} close={() => setCarrying(false)} />}
      {act && <ActSheet act={act} snapshots={chosen.filter(act.of)} close={() => setAct(null)} />}
    </div>
  );
}

function ActSheet({ act, snapshots, close }: { act: Act; snapshots: Snapshot[]; close: () => void }) {
  const queries = useQueryClient();
  const [of] = useState(snapshots); // those that were chosen, whatever becomes of them
  const [reason, setReason] = useState("");
  const [labels, setLabels] = useState("");
  const [done, setDone] = useState(0);
  const run = useMutation({
    mutationFn: async () => {
      const failed: string[] = [];
      const sets = new Set<string>(); // what is removed or recalled of a set is so of all of it
      for (const s of of) {
        const whole = (act.name === "remove" || act.name === "recall") && !!s.setId;
        if (whole && sets.has(s.setId!)) {
          setDone((n) => n + 1);
          continue;
        }
        const path = { params: { path: { id: s.id } }, headers: once() };
        try {
          if (act.name === "keep") await told(api.POST("/snapshots/{id}/keep", { ...path, body: { reason } }));
          else if (act.name === "label")
            await told(api.PATCH("/snapshots/{id}", { ...path, body: { set: pairsOf(labels) } }));
          else if (act.name === "let-go") await told(api.POST("/snapshots/{id}/let-go", path));
          else if (act.name === "recall") await told(api.POST("/snapshots/{id}/recall", path));
          else await told(api.DELETE("/snapshots/{id}", path));
          if (whole) sets.add(s.setId!);
        } catch (e) {
          failed.push(`${s.volume}, ${stamp(s.taken)}: ${(e as Error).message}`);
        }
        setDone((n) => n + 1);
      }
      return failed;
    },
    onSuccess: (failed) => {
      void queries.invalidateQueries();
      if (failed.length === 0) close();
    },
  });
  const failed = run.data ?? [];
  const bytes = of.reduce((n, s) => n + s.stored, 0);
  return (
    <Sheet title={`${act.does}: ${many(of.length, "snapshot")}`} open close={close}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          run.mutate();
        }}
      >
        {act.name === "keep" && <Reason value={reason} change={setReason} />}
        {act.name === "label" && (
          <Field label="Labels" help="key=value, set beside those that they have; a route can carry what has a label.">
            <input
              className="field w-full font-mono"
              value={labels}
              onChange={(e) => setLabels(e.target.value)}
              placeholder="audit=2027"
              required
            />
          </Field>
        )}
        {act.name === "remove" && (
          <p className="text-sm">
            They go into grace, from which they can be recalled; a set goes as a whole. {size(bytes)} came new with
            them; what comes back is told under <Link to="/space">Space</Link>.
          </p>
        )}
        <ul className="my-2 max-h-48 overflow-y-auto text-sm" tabIndex={0} aria-label="Of these">
          {of.slice(0, 200).map((s) => (
            <li key={s.id}>
              <span className="font-mono">{stamp(s.taken)}</span> {s.volume}
            </li>
          ))}
          {of.length > 200 && <li>and {of.length - 200} more</li>}
        </ul>
        {failed.length > 0 && (
          <div role="alert" className="my-2 border-l-4 border-hand pl-3 text-sm">
            {of.length - failed.length} done. Not done: {failed.slice(0, 5).join("; ")}
            {failed.length > 5 && ` and ${failed.length - 5} more`}
          </div>
        )}
        <div className="mt-3 flex items-baseline gap-3">
          {!run.data && (
            <button className={`press ${act.hand ? "press-hand" : ""}`} disabled={run.isPending}>
              {run.isPending ? `${done} of ${of.length} …` : `${act.does} ${of.length}`}
            </button>
          )}
          <button type="button" className="quiet" onClick={close}>
            {run.data ? "Close" : "Not now"}
          </button>
        </div>
      </form>
    </Sheet>
  );
}
