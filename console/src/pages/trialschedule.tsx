import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { api, once, type Schemas, told } from "../api/client";
import { Command, Field, Sheet, Trouble } from "../parts/ui";
import { word } from "../parts/words";

/** Says when restores are tried by themselves. */
export function TrialSchedule({ now, close }: { now: Schemas["Trials"]; close: () => void }) {
  const queries = useQueryClient();
  const [when, setWhen] = useState(now.when || "daily at 04:10");
  const [zone, setZone] = useState(now.zone ?? "");
  const [files, setFiles] = useState(String(now.files || 100));
  const put = useMutation({
    mutationFn: (on: boolean) =>
      told(
        api.PUT("/trials", {
          body: on ? { when, zone: zone || undefined, files: Number(files) } : { when: "" },
          headers: once(),
        }),
      ),
    onSuccess: () => {
      void queries.invalidateQueries({ queryKey: ["trials"] });
      close();
    },
  });
  return (
    <Sheet title="When restores are tried" open close={close}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          put.mutate(true);
        }}
      >
        <Field label="When" help="A cadence, as policies have it: daily at 04:10, or weekly on sun at 03:00.">
          <input className="field w-full" value={when} onChange={(e) => setWhen(e.target.value)} required />
        </Field>
        <Field label="Time zone" help="Such as Europe/Lisbon; empty: UTC.">
          <input className="field w-full" value={zone} onChange={(e) => setZone(e.target.value)} />
        </Field>
        <Field label="Files of each volume, at most">
          <input
            className="field w-32"
            type="number"
            min={1}
            max={10000}
            value={files}
            onChange={(e) => setFiles(e.target.value)}
          />
        </Field>
        <Trouble error={put.error} />
        <div className="mt-4 flex flex-wrap items-baseline gap-3">
          <button className="press" disabled={put.isPending}>
            Set it
          </button>
          {now.nextDue && (
            <button type="button" className="quiet" onClick={() => put.mutate(false)}>
              try none by themselves
            </button>
          )}
          <button type="button" className="quiet" onClick={close}>
            Not now
          </button>
          <Command text={`candid trial set ${word(when)}${zone && ` --zone ${word(zone)}`} --files ${files || 100}`} />
        </div>
      </form>
    </Sheet>
  );
}
