import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";

import { api, once, type Snapshot, told } from "../api/client";
import { Field, Sheet } from "../parts/ui";
import { stamp } from "../parts/times";
import { many, size } from "../parts/words";
import { AtOnceSheet } from "./atonce";
import { CarrySheet } from "./carrychosen";
import { pairsOf } from "./noted";
import { RestoreSheet } from "./restoremany";
import { These } from "./these";
import { Reason } from "./why";

type Act = { name: string; does: string; of: (s: Snapshot) => boolean; hand?: boolean };

const acts: Act[] = [
  { name: "keep", does: "Keep", of: (s) => !s.keep },
  { name: "let-go", does: "Take the keep mark back", of: (s) => !!s.keep },
  { name: "label", does: "Label", of: () => true },
  { name: "recall", does: "Recall", of: (s) => s.state !== "kept" },
  { name: "remove", does: "Remove", of: (s) => s.state === "kept" && !s.keep, hand: true },
];

/** What can be done with all chosen snapshots; each act says of how many of them it can be done. */
export function ForChosen({ chosen, clear }: { chosen: Snapshot[]; clear: () => void }) {
  const [act, setAct] = useState<Act | null>(null);
  const [sheet, setSheet] = useState<"" | "carry" | "restore" | "at once">("");
  const here = chosen.filter((s) => s.state === "kept");
  if (chosen.length === 0 && !sheet && !act) return null; // what was chosen may be gone while its sheet tells so
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
          <button className="press" onClick={() => setSheet("carry")}>
            Carry {here.length}
          </button>
        )}
        <button className="press" onClick={() => setSheet("restore")}>
          Bring back {chosen.length}
        </button>
        <button className="quiet" onClick={() => setSheet("at once")}>
          remove at once …
        </button>
        <button className="quiet" onClick={clear}>
          choose none
        </button>
      </p>
      {sheet === "carry" && <CarrySheet snapshots={here} close={() => setSheet("")} />}
      {sheet === "restore" && <RestoreSheet snapshots={chosen} close={() => setSheet("")} />}
      {sheet === "at once" && (
        <AtOnceSheet
          snapshots={chosen}
          close={(gone) => {
            setSheet("");
            if (gone) clear();
          }}
        />
      )}
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
        <These of={of} />
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
