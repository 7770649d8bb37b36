import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { api, once, type Schemas, told } from "../api/client";
import { ChooseField } from "./choose";
import { Pick } from "./pick";
import { browserZone, type Dates, setTimes, shownZone, stamp } from "./times";
import { ByCommand, Field, Sheet, Trouble } from "./ui";

const forms: Dates[] = ["year first", "day first", "month first"];
const browser = () => `of this browser: ${browserZone()}`;

/** Says in which zone times are shown, and lets that and their form be chosen. */
export function ShownTimes({ times }: { times: Schemas["Times"] }) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <button
        className="quiet"
        aria-label={`Times are of ${shownZone()}`}
        title="All times are of this zone"
        onClick={() => setOpen(true)}
      >
        <span className="2xl:hidden">times</span>
        <span className="hidden 2xl:inline">{shownZone()}</span>
      </button>
      {open && <Chosen times={times} close={() => setOpen(false)} />}
    </>
  );
}

function Chosen({ times, close }: { times: Schemas["Times"]; close: () => void }) {
  const [zone, setZone] = useState(times.zone);
  const [dates, setDates] = useState(times.dates);
  const [now] = useState(() => new Date());
  const queries = useQueryClient();
  const save = useMutation({
    mutationFn: () => told(api.PUT("/me/times", { body: { zone, dates }, headers: once() })),
    onSuccess: (t) => {
      setTimes(t);
      void queries.resetQueries(); // all that is shown is asked for and written anew
    },
  });
  return (
    <Sheet title="How times are shown to you" open close={close}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate();
        }}
      >
        <Field label="Time zone" help="Of all times in this console: shown, typed and in sentences.">
          <Pick
            label="Time zone"
            value={zone}
            none={browser()}
            names={["UTC", ...Intl.supportedValuesOf("timeZone")]}
            pick={setZone}
          />
        </Field>
        <ChooseField
          label="Dates"
          value={dates}
          options={forms.map((f) => ({ value: f, label: `${f}: ${stamp(now, false, f)}` }))}
          choose={setDates}
        />
        <Trouble error={save.error} />
        <div className="mt-3 flex gap-3">
          <button className="press" disabled={save.isPending}>
            Show them so
          </button>
          <button type="button" className="quiet" onClick={close}>
            Not now
          </button>
        </div>
      </form>
      <ByCommand lines={[`candid person times --zone ${zone || "browser"} --dates "${dates}"`]} />
    </Sheet>
  );
}
