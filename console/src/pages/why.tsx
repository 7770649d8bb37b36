import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";

import { api, once, type Snapshot, told } from "../api/client";
import { Field, Sheet, Trouble } from "../parts/ui";
import { stamp, startOf } from "../parts/times";

/** What answers for the chosen moment and why; without one, what protects the volume. */
export function Why({ volume, at }: { volume: string; at?: string }) {
  const why = useQuery({
    queryKey: ["explanation", volume, at ?? ""],
    queryFn: () => told(api.GET("/volumes/{name}/explanation", { params: { path: { name: volume }, query: { at } } })),
  });
  return (
    <section className="my-6" aria-labelledby="why">
      <h2 id="why" className="head border-b border-ink">
        {at ? "Why this state" : "Why and how"}
      </h2>
      <Trouble error={why.error} />
      {(why.data?.sentences ?? []).map((s) => (
        <p key={s} className="my-1.5 text-sm">
          {s}
        </p>
      ))}
      {(why.data?.gaps ?? []).slice(0, 8).map((g) => (
        <p key={g.due} className="my-1 border-l-4 border-hand pl-2 text-xs">
          due {stamp(g.due)}: {g.cause}
        </p>
      ))}
    </section>
  );
}

export function PauseButton({ volume, paused }: { volume: string; paused: boolean }) {
  const act = useMutation({
    mutationFn: () =>
      told(
        api.POST(paused ? "/volumes/{name}/resume" : "/volumes/{name}/pause", {
          params: { path: { name: volume } },
          headers: once(),
        }),
      ),
  });
  return (
    <>
      <button className="quiet text-sm" onClick={() => act.mutate()} disabled={act.isPending}>
        {paused ? "go on" : "pause"}
      </button>
      <Trouble error={act.error} />
    </>
  );
}

/** Rules of the origin that would keep less here, and the person's consent. */
export function Offered({ volume, less }: { volume: string; less: string[] }) {
  const accept = useMutation({
    mutationFn: () =>
      told(api.POST("/volumes/{name}/accept-rules", { params: { path: { name: volume } }, headers: once() })),
  });
  return (
    <div className="my-3 border-l-4 border-hand bg-sheet px-3 py-2 text-sm">
      <p>
        Its origin proposes to keep less here: {less.join("; ")}. Until that is accepted, what either the old or the new
        rules keep stays.
      </p>
      <button className="press press-hand mt-2" onClick={() => accept.mutate()} disabled={accept.isPending}>
        Accept it
      </button>
      <Trouble error={accept.error} />
    </div>
  );
}

/** Snapshots that arrived out of turn, and the person's word that they are meant. */
export function OutOfTurn({ volume, count }: { volume: string; count: number }) {
  const admit = useMutation({
    mutationFn: () =>
      told(api.POST("/volumes/{name}/admit", { params: { path: { name: volume } }, body: {}, headers: once() })),
  });
  return (
    <div className="my-3 border-l-4 border-hand bg-sheet px-3 py-2 text-sm">
      <p>
        {count === 1 ? "One snapshot" : `${count} snapshots`} arrived out of turn: more than the cadence takes, dated
        against their order, or of another branch of the history. They stay, and displace nothing until you have looked.
        The list below says of each why.
      </p>
      <button className="press press-hand mt-2" onClick={() => admit.mutate()} disabled={admit.isPending}>
        They are meant: admit them
      </button>
      <Trouble error={admit.error} />
    </div>
  );
}

/** Says why nothing is taken of a volume, and lets it be taken as it is. */
export function Doubt({ volume, why }: { volume: string; why: string }) {
  const confirm = useMutation({
    mutationFn: () =>
      told(api.POST("/volumes/{name}/confirm", { params: { path: { name: volume } }, headers: once() })),
  });
  return (
    <div className="my-3 border-l-4 border-hand bg-sheet px-3 py-2 text-sm">
      <p>Nothing is taken of it: {why}. What is kept of it stays.</p>
      <button className="press press-hand mt-2" onClick={() => confirm.mutate()} disabled={confirm.isPending}>
        It is meant: take it as it is
      </button>
      <Trouble error={confirm.error} />
    </div>
  );
}

/** The reason of a keep mark. */
export function Reason({ value, change }: { value: string; change: (reason: string) => void }) {
  return (
    <Field label="Reason" help="For whoever finds it years later.">
      <input
        className="field w-full"
        value={value}
        onChange={(e) => change(e.target.value)}
        required
        maxLength={1000}
      />
    </Field>
  );
}

/** Asks for the reason of a keep mark. */
export function KeepSheet({ snapshot, close }: { snapshot: Snapshot; close: () => void }) {
  const [reason, setReason] = useState("");
  const [until, setUntil] = useState("");
  const keep = useMutation({
    mutationFn: () =>
      told(
        api.POST("/snapshots/{id}/keep", {
          params: { path: { id: snapshot.id } },
          body: { reason, until: until ? startOf(until).toISOString() : undefined },
          headers: once(),
        }),
      ),
    onSuccess: close,
  });
  return (
    <Sheet title={`Keep the state of ${stamp(snapshot.taken)}`} open close={close}>
      <p className="text-sm">It stays whatever the rules say, here and wherever it is carried.</p>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          keep.mutate();
        }}
      >
        <Reason value={reason} change={setReason} />
        <Field label="Until" help="Empty: until it is let go by hand.">
          <input className="field" type="date" value={until} onChange={(e) => setUntil(e.target.value)} />
        </Field>
        <Trouble error={keep.error} />
        <div className="mt-4 flex gap-3">
          <button className="press" disabled={keep.isPending}>
            Keep it
          </button>
          <button type="button" className="quiet" onClick={close}>
            Not now
          </button>
        </div>
      </form>
    </Sheet>
  );
}
