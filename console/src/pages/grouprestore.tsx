import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";

import { api, once, type Schemas, told } from "../api/client";
import { useRun, worked } from "../api/run";
import { Command, Field, Progress, Sheet, Trouble } from "../parts/ui";
import { stamp } from "../parts/times";
import { size, word } from "../parts/words";
import { UndoButton } from "./undo";

/** Brings all volumes of a group back to one common instant. */
export function TogetherSheet({ group, close }: { group: string; close: () => void }) {
  const [at, setAt] = useState("latest");
  const [to, setTo] = useState("");
  const ask = (): Schemas["GroupRestoreAsk"] => ({
    group,
    at: at === "latest" ? at : new Date(at).toISOString(),
    ...(to ? { to } : { inPlace: true }),
  });
  const plan = useMutation({
    mutationFn: async () => told(api.POST("/group-restores/plan", { body: ask(), headers: once() })),
  });
  const start = useMutation({
    mutationFn: async () => told(api.POST("/group-restores", { body: ask(), headers: once() })),
  });
  const id = start.data?.id;
  const run = useRun(id);
  const p = plan.data;
  return (
    <Sheet title={`Bring back ${group}, all of it as of one instant`} open close={close} wide>
      {!id && (
        <>
          <Field label="As of" help="latest, or a moment such as 2026-03-04 14:05: the newest set taken before it.">
            <input
              className="field w-full font-mono"
              value={at}
              onChange={(e) => {
                setAt(e.target.value);
                plan.reset();
              }}
            />
          </Field>
          <Field
            label="To the directory"
            help={
              "Each volume gets one of its name in it. " +
              "Empty: back where they were; a safety snapshot of each is taken first."
            }
          >
            <input
              className="field w-full font-mono"
              value={to}
              onChange={(e) => {
                setTo(e.target.value);
                plan.reset();
              }}
            />
          </Field>
        </>
      )}
      <Trouble error={plan.error ?? start.error ?? run.error} />
      {p && !id && (
        <section aria-label="Plan" className="my-3 border border-rule bg-sheet p-3 text-sm">
          <p className="font-say text-base">The set was taken {stamp(p.taken!, true)}.</p>
          {(p.volumes ?? []).map((v) => (
            <p key={v.volume}>
              <span className="font-semibold">{v.volume}</span>: {v.summary}; {size(v.bytes)} to write
            </p>
          ))}
          {(p.lacking ?? []).map((v) => (
            <p key={v} className="text-hand">
              {v} is of the group and not in that set: nothing of it comes back.
            </p>
          ))}
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
          <span className="flex gap-4 text-sm">
            <Link className="quiet" to={`/runs/${id}`}>
              The run and its log
            </Link>
            <UndoButton run={run.data} />
          </span>
        </section>
      )}
      <div className="mt-4 flex flex-wrap items-baseline gap-3">
        {!id && !p && (
          <button className="press" onClick={() => plan.mutate()} disabled={plan.isPending}>
            {plan.isPending ? "Looking …" : "See what would happen"}
          </button>
        )}
        {p && !id && (
          <button className="press press-hand" onClick={() => start.mutate()} disabled={start.isPending}>
            Do it
          </button>
        )}
        <button className="quiet text-sm" onClick={close}>
          {id ? "Close" : "Not now"}
        </button>
      </div>
      <p className="mt-4 border-t border-rule pt-2">
        <Command
          text={`candid group restore ${word(group)} --at ${word(at)} ${to ? `--to ${word(to)}` : "--in-place"}`}
        />
      </p>
    </Sheet>
  );
}
