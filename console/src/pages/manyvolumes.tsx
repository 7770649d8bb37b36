import { Combobox, ComboboxInput, ComboboxOption, ComboboxOptions } from "@headlessui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { api, once, told, type Volume } from "../api/client";
import { Command, Field, Sheet, Trouble } from "../parts/ui";
import { size, word } from "../parts/words";

/** What can be done with all chosen volumes at once. */
export function ForChosen({ chosen, all, clear }: { chosen: string[]; all: Volume[]; clear: () => void }) {
  const queries = useQueryClient();
  const [labelling, setLabelling] = useState(false);
  const take = useMutation({
    mutationFn: () => told(api.POST("/snapshots", { body: { volumes: chosen, take: {} }, headers: once() })),
    onSuccess: () => queries.invalidateQueries(),
  });
  const refused = take.data?.refused ?? [];
  if (chosen.length === 0) return null;
  return (
    <div className="sticky top-0 z-10 my-2 border-y border-ink bg-paper py-2 text-sm" role="group" aria-label="Chosen">
      <p className="flex flex-wrap items-baseline gap-3">
        <span className="font-semibold">{chosen.length} chosen</span>
        <button className="press" onClick={() => take.mutate()} disabled={take.isPending}>
          Take a snapshot of each now
        </button>
        <button className="press" onClick={() => setLabelling(true)}>
          Label them
        </button>
        <button className="quiet" onClick={clear}>
          choose none
        </button>
        {chosen.length <= 6 && <Command text={`candid snapshot take ${chosen.map(word).join(" ")}`} />}
      </p>
      {take.data && (
        <p role="status" className="mt-1">
          {take.data.runs?.length ?? 0} begun
          {refused.length > 0 && `; ${refused.length} refused, such as ${refused[0]!.volume}: ${refused[0]!.why}`}
        </p>
      )}
      <Trouble error={take.error} />
      {labelling && <Label chosen={chosen} all={all} close={() => setLabelling(false)} />}
    </div>
  );
}

/** Sets labels of volumes, or takes them away; what that changes is told first. */
function Label({ chosen, all, close }: { chosen: string[]; all: Volume[]; close: () => void }) {
  const queries = useQueryClient();
  const [key, setKey] = useState("");
  const [value, setValue] = useState("");
  const ask = (dryRun: boolean, accept: boolean) =>
    told(
      api.POST("/volumes/labels", {
        body: { volumes: chosen, ...(value ? { set: { [key]: value } } : { drop: [key] }), dryRun, accept },
        headers: once(),
      }),
    );
  const plan = useMutation({ mutationFn: () => ask(true, false) });
  const change = useMutation({
    mutationFn: (accept: boolean) => ask(false, accept),
    onSuccess: () => {
      void queries.invalidateQueries();
      close();
    },
  });
  const changes = plan.data?.changes ?? [];
  const letting = changes.flatMap((c) => c.letting ?? []);
  const said = new Map<string, string[]>();
  for (const c of changes) for (const text of c.changes ?? []) said.set(text, [...(said.get(text) ?? []), c.volume]);
  const pairs = all.flatMap((v) => Object.entries(v.labels ?? {}));
  const known = [...new Set(pairs.map(([k]) => k))].sort();
  const values = [...new Set(pairs.filter(([k]) => k === key).map(([, v]) => v))].sort();
  const command = `candid volume label ${chosen.slice(0, 3).map(word).join(" ")}${chosen.length > 3 ? " …" : ""} ${
    value ? word(`${key}=${value}`) : `--drop ${word(key || "KEY")}`
  }`;
  return (
    <Sheet title={chosen.length === 1 ? `Label ${chosen[0]}` : `Label ${chosen.length} volumes`} open close={close}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          if (plan.data) change.mutate(letting.length > 0);
          else plan.mutate();
        }}
      >
        <Field label="Key">
          <Offer value={key} change={(v) => (setKey(v), plan.reset())} options={known} label="Key" />
        </Field>
        <Field label="Value" help="Empty: the label is taken away where it is.">
          <Offer value={value} change={(v) => (setValue(v), plan.reset())} options={values} label="Value" />
        </Field>
        {plan.data && (
          <div className="my-3 text-sm" role="status">
            {[...said].map(([text, volumes]) => (
              <p key={text}>
                {text}{" "}
                <span className="text-faint">
                  ({volumes.length === 1 ? volumes[0] : `${volumes.length} volumes, such as ${volumes[0]}`})
                </span>
              </p>
            ))}
            {said.size === 0 && <p>No policy or route chooses otherwise by it.</p>}
            {letting.length > 0 && (
              <p className="mt-2 border-l-4 border-hand pl-3">
                {letting.length} snapshots would expire by it; {size(changes.reduce((n, c) => n + c.bytes, 0))} come
                back after grace and a sweep.
              </p>
            )}
          </div>
        )}
        <Trouble error={plan.error ?? change.error} />
        <div className="mt-3 flex flex-wrap items-baseline gap-3">
          <button
            className={`press ${letting.length > 0 ? "press-hand" : ""}`}
            disabled={!key || plan.isPending || change.isPending}
          >
            {!plan.data
              ? "See what that changes"
              : letting.length > 0
                ? `Change it and let ${letting.length} go`
                : "Change it"}
          </button>
          <button type="button" className="quiet" onClick={close}>
            Not now
          </button>
          <Command text={command} />
        </div>
      </form>
    </Sheet>
  );
}

/** A field that offers what is in use already. */
function Offer({
  value,
  change,
  options,
  label,
}: {
  value: string;
  change: (v: string) => void;
  options: string[];
  label: string;
}) {
  const fitting = options.filter((o) => o.includes(value) && o !== value);
  return (
    <Combobox value={value} onChange={(v: string | null) => change(v ?? "")} immediate>
      <ComboboxInput
        aria-label={label}
        className="field w-full"
        autoComplete="off"
        onChange={(e) => change(e.target.value)}
      />
      <ComboboxOptions
        modal={false}
        anchor="bottom start"
        className="z-30 max-h-60 w-(--input-width) overflow-y-auto border border-ink bg-paper text-sm outline-none"
      >
        {fitting.map((o) => (
          <ComboboxOption key={o} value={o} className="cursor-pointer px-3 py-1 data-focus:bg-sea">
            {o}
          </ComboboxOption>
        ))}
        {fitting.length === 0 && (
          <ComboboxOption value={value} disabled className="px-3 py-1 text-faint">
            {value ? "as it is written" : "none is in use yet"}
          </ComboboxOption>
        )}
      </ComboboxOptions>
    </Combobox>
  );
}
