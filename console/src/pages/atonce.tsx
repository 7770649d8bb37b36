import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { api, once, type Snapshot, told } from "../api/client";
import { Buttons, Field, Sheet, Trouble, Waiting } from "../parts/ui";
import { many } from "../parts/words";
import { These } from "./these";

/** Removes snapshots without grace, once it was told what goes and its name was typed. */
export function AtOnceSheet({ snapshots, close }: { snapshots: Snapshot[]; close: (gone: boolean) => void }) {
  const queries = useQueryClient();
  const [ids] = useState(snapshots.map((s) => s.id));
  const [typed, setTyped] = useState("");
  const ask = (type?: string) =>
    told(
      api.POST("/snapshots/remove-at-once", {
        body: { snapshots: ids, dryRun: type === undefined, type },
        headers: once(),
      }),
    );
  const would = useQuery({ queryKey: ["at once", ids], queryFn: () => ask(), retry: false, gcTime: 0 });
  const remove = useMutation({
    mutationFn: () => ask(typed),
    onSuccess: () => queries.invalidateQueries({ predicate: (q) => q.queryKey[0] !== "at once" }),
  });
  const x = would.data;
  return (
    <Sheet title="Remove at once, without grace" open close={() => close(!!remove.data)}>
      <Trouble error={would.error} />
      {would.isPending && <Waiting what="what would go" />}
      {remove.data ? (
        <>
          <p role="status">{remove.data.sentence}</p>
          <button className="press mt-3" onClick={() => close(true)}>
            Close
          </button>
        </>
      ) : (
        x && (
          <form
            onSubmit={(e) => {
              e.preventDefault();
              remove.mutate();
            }}
          >
            <p className="text-sm">{x.sentence}</p>
            {x.going!.length > ids.length && (
              <p className="text-sm">
                {many(x.going!.length - ids.length, "snapshot")} of the same sets would go with them.
              </p>
            )}
            <These of={x.going!} />
            <Field label={`Type ${x.type} to remove them`}>
              <input className="field w-full" value={typed} onChange={(e) => setTyped(e.target.value)} />
            </Field>
            <Trouble error={remove.error} />
            <Buttons
              does={`Remove ${x.going!.length} for good`}
              busy={typed !== x.type || remove.isPending}
              close={() => close(false)}
              hand
              command={`candid snapshot remove ${ids.map((i) => i.slice(0, 12)).join(" ")} --at-once`}
            />
          </form>
        )
      )}
    </Sheet>
  );
}
