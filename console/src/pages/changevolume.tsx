import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { api, once, told, type Volume } from "../api/client";
import { Buttons, Field, Sheet, Trouble } from "../parts/ui";
import { many, size, word } from "../parts/words";

/** Has a volume lie elsewhere, or leave out other names; what would be there is looked at first. */
export function ChangeVolume({ volume: v, close }: { volume: Volume; close: () => void }) {
  const queries = useQueryClient();
  const [path, setPath] = useState(v.path);
  const [left, setLeft] = useState((v.excludes ?? []).join("\n"));
  const excludes = left
    .split("\n")
    .map((l) => l.trim())
    .filter(Boolean);
  const ask = (dryRun: boolean, accept: boolean) =>
    told(
      api.PATCH("/volumes/{name}", {
        params: { path: { name: v.name } },
        body: { path: path === v.path ? undefined : path, excludes, dryRun, accept },
        headers: once(),
      }),
    );
  const look = useMutation({ mutationFn: () => ask(true, false) });
  const change = useMutation({
    mutationFn: (accept: boolean) => ask(false, accept),
    onSuccess: () => {
      void queries.invalidateQueries();
      close();
    },
  });
  const edit = (set: (text: string) => void) => (e: { target: { value: string } }) => {
    set(e.target.value);
    look.reset();
    change.reset();
  };
  const found = look.data;
  const nearlyEmpty = !!found && v.lastFiles >= 10 && found.files * 20 < v.lastFiles;
  const command = [
    `candid volume change ${word(v.name)}`,
    path !== v.path && `--path ${word(path)}`,
    ...(excludes.length > 0 ? excludes.map((x) => `--exclude ${word(x)}`) : ["--exclude-nothing"]),
  ];
  return (
    <Sheet title={`Change ${v.name}`} open close={close}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          if (found) change.mutate(nearlyEmpty);
          else look.mutate();
        }}
      >
        <Field label="Directory" help="On this site's host, below one of its roots.">
          <input className="field w-full font-mono" value={path} onChange={edit(setPath)} required />
        </Field>
        <Field label="Left out" help="A glob a line: of names, or with a slash of paths from the top. Empty: nothing.">
          <textarea className="field w-full font-mono" rows={4} value={left} onChange={edit(setLeft)} />
        </Field>
        <p className="text-sm text-faint">
          Its history goes on, and so does its chunking, so that what did not change is not stored again.
        </p>
        {found && (
          <div className="my-3 text-sm" role="status">
            <p>
              There: {many(found.files, "file")} in {many(found.directories, "directory", "directories")},{" "}
              {size(found.bytes)}; {many(v.lastFiles, "file")} at the last snapshot.
            </p>
            {nearlyEmpty && (
              <p className="mt-2 border-l-4 border-hand pl-3">Nearly nothing is left of it. Is that what you mean?</p>
            )}
            {(found.warnings ?? []).map((w) => (
              <p key={w} className="mt-2 border-l-4 border-hand pl-3">
                {w}
              </p>
            ))}
          </div>
        )}
        <Trouble error={look.error ?? change.error} />
        <Buttons
          does={!found ? "See what would be there" : nearlyEmpty ? "It is meant: change it" : "Change it"}
          busy={look.isPending || change.isPending}
          close={close}
          hand={nearlyEmpty}
          command={command.filter(Boolean).join(" ")}
        />
      </form>
    </Sheet>
  );
}
