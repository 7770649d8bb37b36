import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { api, once, Problem, type Schemas, told } from "../api/client";
import { Command, Sheet, Trouble } from "../parts/ui";
import { many, word } from "../parts/words";

/** Removes a policy; where snapshots expire by it that is refused first, and accepted then. */
export function RemovePolicy({ policy: p, removed }: { policy: Schemas["Policy"]; removed: () => void }) {
  const queries = useQueryClient();
  const [open, setOpen] = useState(false);
  const remove = useMutation({
    mutationFn: (accept: boolean) =>
      told(
        api.DELETE("/policies/{name}", {
          params: { path: { name: p.name }, query: { accept } },
          headers: once(),
        }),
      ),
    onSuccess: () => {
      void queries.invalidateQueries();
      setOpen(false);
      removed();
    },
  });
  const refused = remove.error instanceof Problem && remove.error.status === 409;
  return (
    <>
      <button className="quiet ml-auto min-h-6 text-sm" onClick={() => setOpen(true)}>
        remove it
      </button>
      {open && (
        <Sheet title={`Remove the policy ${p.name}`} open close={() => setOpen(false)}>
          <p className="text-sm">
            It chooses {many((p.volumes ?? []).length, "volume")}. Of those that no other policy chooses nothing is
            taken by itself any more, and what they have stays. Its versions stay known.
          </p>
          <Trouble error={remove.error} />
          <div className="mt-4 flex flex-wrap items-baseline gap-3">
            <button className="press press-hand" onClick={() => remove.mutate(refused)} disabled={remove.isPending}>
              {refused ? "Accept that and remove it" : "Remove it"}
            </button>
            <button className="quiet" onClick={() => setOpen(false)}>
              Not now
            </button>
            <Command text={`candid policy remove ${word(p.name)}${refused ? " --yes" : ""}`} />
          </div>
        </Sheet>
      )}
    </>
  );
}
