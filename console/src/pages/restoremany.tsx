import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";

import { api, once, type Snapshot, told } from "../api/client";
import { Buttons, Field, Sheet, Trouble } from "../parts/ui";
import { many, word } from "../parts/words";
import { These } from "./these";

/** Brings each of several snapshots into a directory of its own. */
export function RestoreSheet({ snapshots, close }: { snapshots: Snapshot[]; close: () => void }) {
  const go = useNavigate();
  const [of] = useState(snapshots);
  const [to, setTo] = useState("");
  const run = useMutation({
    mutationFn: () =>
      told(api.POST("/snapshots/restore", { body: { snapshots: of.map((s) => s.id), to }, headers: once() })),
    onSuccess: (runs) => void go(runs?.length === 1 ? `/runs/${runs[0].id}` : "/runs"),
  });
  const ids = of.map((s) => s.id.slice(0, 12)).join(" ");
  return (
    <Sheet title={`Bring back: ${many(of.length, "snapshot")}`} open close={close}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          run.mutate();
        }}
      >
        <p className="text-sm">
          Each comes whole into a directory of its own, named after its volume and its time; a disk comes as an image.
          To bring one back in place, or some files of it, open it by its time.
        </p>
        <Field label="Directory" help="On this site's host, below one of its roots; it is made when it is not there.">
          <input className="field w-full font-mono" value={to} onChange={(e) => setTo(e.target.value)} required />
        </Field>
        <These of={of} />
        <Trouble error={run.error} />
        <Buttons
          does={`Bring back ${of.length}`}
          busy={run.isPending}
          close={close}
          command={`candid snapshot restore ${ids} --to ${to ? word(to) : "DIR"}`}
        />
      </form>
    </Sheet>
  );
}
