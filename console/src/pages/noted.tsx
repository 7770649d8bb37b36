import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";

import { api, once, type Snapshot, told } from "../api/client";
import { Buttons, Field, Sheet, Trouble } from "../parts/ui";
import { isoDay, stamp, startOf } from "../parts/times";
import { instant, word } from "../parts/words";

/** The local day of a moment, as a date field has it. */
const day = (at: string | undefined) => (at ? isoDay(at) : "");
const moment = (date: string) => startOf(date).toISOString();

/** Reads key=value pairs, apart from each other by spaces or commas. */
export function pairsOf(text: string): Record<string, string> {
  const pairs: [string, string][] = text
    .split(/[\s,]+/)
    .filter(Boolean)
    .map((p) => {
      const i = p.indexOf("=");
      return i < 0 ? [p, ""] : [p.slice(0, i), p.slice(i + 1)];
    });
  return Object.fromEntries(pairs);
}

const textOf = (labels: Record<string, string> | null | undefined) =>
  Object.entries(labels ?? {})
    .map(([k, v]) => `${k}=${v}`)
    .join(" ");

/** The label of a snapshot of which somebody says that it may go first. */
const first = "may-go-first";

type Noted = { note: string; labels: string; until: string };

function NotedFields(p: { value: Noted; change: (v: Noted) => void; byHand: boolean; ends?: boolean }) {
  const { value, change, byHand, ends } = p;
  return (
    <>
      <Field label="Note" help="Why it was taken, shown wherever it is listed.">
        <input
          className="field w-full"
          value={value.note}
          onChange={(e) => change({ ...value, note: e.target.value })}
          maxLength={1000}
        />
      </Field>
      <Field label="Labels" help="key=value; a route can carry those that have a label.">
        <input
          className="field w-full font-mono"
          value={value.labels}
          onChange={(e) => change({ ...value, labels: e.target.value })}
          placeholder="audit=2027"
        />
      </Field>
      <label className="my-3 flex items-baseline gap-2 text-sm">
        <input
          type="checkbox"
          checked={pairsOf(value.labels)[first] === "yes"}
          onChange={(e) => {
            const { [first]: _, ...rest } = pairsOf(value.labels);
            change({ ...value, labels: textOf(e.target.checked ? { ...rest, [first]: "yes" } : rest) });
          }}
        />
        It may go first when room is short
      </label>
      {byHand && (
        <Field
          label="Keep until"
          help={
            ends ? "It can be another day, but not none." : "Empty: as long as the policy keeps what was taken by hand."
          }
        >
          <input
            className="field"
            type="date"
            required={ends}
            value={value.until}
            onChange={(e) => change({ ...value, until: e.target.value })}
          />
        </Field>
      )}
    </>
  );
}

/** Takes a snapshot with what is to be noted with it. */
export function TakeSheet({ volume, close }: { volume: string; close: () => void }) {
  const go = useNavigate();
  const [v, setV] = useState<Noted>({ note: "", labels: "", until: "" });
  const take = useMutation({
    mutationFn: () =>
      told(
        api.POST("/volumes/{name}/snapshots", {
          params: { path: { name: volume } },
          body: { note: v.note, labels: pairsOf(v.labels), keepUntil: v.until ? moment(v.until) : undefined },
          headers: once(),
        }),
      ),
    onSuccess: (r) => void go(`/runs/${r.id}`),
  });
  const command = [
    `candid snapshot take ${word(volume)}`,
    v.note && `--note ${word(v.note)}`,
    ...Object.entries(pairsOf(v.labels)).map(([k, x]) => `--label ${word(`${k}=${x}`)}`),
    v.until && `--keep-until ${instant(moment(v.until))}`,
  ];
  return (
    <Sheet title={`Take a snapshot of ${volume}`} open close={close}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          take.mutate();
        }}
      >
        <NotedFields value={v} change={setV} byHand />
        <Trouble error={take.error} />
        <Buttons does="Take it" busy={take.isPending} close={close} command={command.filter(Boolean).join(" ")} />
      </form>
    </Sheet>
  );
}

/** Changes what is noted with a snapshot. */
export function ChangeSheet({ snapshot: s, close }: { snapshot: Snapshot; close: () => void }) {
  const was: Noted = { note: s.note ?? "", labels: textOf(s.labels), until: day(s.ownEnd) };
  const [v, setV] = useState(was);
  const set = pairsOf(v.labels);
  const drop = Object.keys(s.labels ?? {}).filter((k) => !(k in set));
  const ended = v.until && v.until !== was.until ? moment(v.until) : undefined;
  const change = useMutation({
    mutationFn: () =>
      told(
        api.PATCH("/snapshots/{id}", {
          params: { path: { id: s.id } },
          body: { note: v.note, set, drop, keepUntil: ended },
          headers: once(),
        }),
      ),
    onSuccess: close,
  });
  const command = [
    `candid snapshot change ${s.id.slice(0, 12)}`,
    `--note ${v.note ? word(v.note) : "''"}`,
    ...Object.entries(set).map(([k, x]) => `--label ${word(`${k}=${x}`)}`),
    ...drop.map((k) => `--drop ${word(k)}`),
    ended && `--keep-until ${instant(moment(v.until))}`,
  ];
  return (
    <Sheet title={`The snapshot of ${stamp(s.taken)}`} open close={close}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          change.mutate();
        }}
      >
        <NotedFields value={v} change={setV} byHand={s.cause === "by hand"} ends={!!was.until} />
        <Trouble error={change.error} />
        <Buttons does="Change it" busy={change.isPending} close={close} command={command.filter(Boolean).join(" ")} />
      </form>
    </Sheet>
  );
}
