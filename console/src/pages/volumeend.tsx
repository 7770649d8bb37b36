import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { api, once, told, type Volume } from "../api/client";
import { Choose } from "../parts/choose";
import { Buttons, Field, Sheet, Trouble } from "../parts/ui";
import { word } from "../parts/words";

const modes = [
  { value: "none", label: "not laid out" },
  { value: "exact", label: "exactly as it arrives" },
  { value: "additive", label: "as it arrives, and nothing is deleted" },
];

/** Says whether a copy of another site's volume is laid out as a directory. */
export function StandbySheet({ volume: v, close }: { volume: Volume; close: () => void }) {
  const queries = useQueryClient();
  const [mode, setMode] = useState<string>(v.standby?.mode ?? "none");
  const [dir, setDir] = useState("");
  const set = useMutation({
    mutationFn: () =>
      told(
        api.PUT("/volumes/{name}/standby", {
          params: { path: { name: v.name } },
          body: { mode: mode as "exact" | "additive" | "none", dir: dir || undefined },
          headers: once(),
        }),
      ),
    onSuccess: () => {
      void queries.invalidateQueries();
      close();
    },
  });
  return (
    <Sheet title={`${v.name} as a directory`} open close={close}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          set.mutate();
        }}
      >
        <p className="text-sm">
          The newest copy can lie ready for use. It changes in one step with each arrival; do not write into it.
        </p>
        <div className="my-3 flex flex-wrap items-baseline gap-x-3 text-sm">
          <span className="font-semibold">It is</span>
          <Choose label="How it is laid out" value={mode} options={modes} choose={setMode} />
        </div>
        {mode !== "none" && (
          <Field label="Directory" help="On this site's host. Empty: below the standby directory of site.yaml.">
            <input className="field w-full font-mono" value={dir} onChange={(e) => setDir(e.target.value)} />
          </Field>
        )}
        <Trouble error={set.error} />
        <Buttons
          does="Set it"
          busy={set.isPending}
          close={close}
          command={`candid volume standby ${word(v.name)} ${mode}${dir ? ` --dir ${word(dir)}` : ""}`}
        />
      </form>
    </Sheet>
  );
}

/** Ends the protection of a volume, once its name is typed. */
export function EndSheet({ volume: v, close }: { volume: Volume; close: () => void }) {
  const queries = useQueryClient();
  const [typed, setTyped] = useState("");
  const end = useMutation({
    mutationFn: () => told(api.DELETE("/volumes/{name}", { params: { path: { name: v.name } }, headers: once() })),
    onSuccess: () => queries.invalidateQueries(),
  });
  return (
    <Sheet title={`Stop protecting ${v.name}`} open close={close}>
      {end.data ? (
        <>
          <p role="status">{end.data.sentence}</p>
          <button className="press mt-3" onClick={close}>
            Close
          </button>
        </>
      ) : (
        <form
          onSubmit={(e) => {
            e.preventDefault();
            end.mutate();
          }}
        >
          <p className="text-sm">
            Nothing more is taken of it. What there is of it stays, as long as its rules say or until it is removed.
          </p>
          <Field label={`Type ${v.name} to end it`}>
            <input className="field w-full" value={typed} onChange={(e) => setTyped(e.target.value)} />
          </Field>
          <Trouble error={end.error} />
          <Buttons
            does="Stop protecting it"
            busy={typed !== v.name || end.isPending}
            close={close}
            hand
            command={`candid volume remove ${word(v.name)}`}
          />
        </form>
      )}
    </Sheet>
  );
}
