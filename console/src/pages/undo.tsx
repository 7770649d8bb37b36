import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";

import { api, once, type RestoreResult, type Run, told } from "../api/client";
import { Sheet, Trouble } from "../parts/ui";

/** Takes a restore in place back, after saying what that means. */
export function UndoButton({ run }: { run: Run }) {
  const [asked, setAsked] = useState(false);
  const undo = useMutation({
    mutationFn: () => told(api.POST("/runs/{id}/undo", { params: { path: { id: run.id } }, headers: once() })),
  });
  const result = run.result as RestoreResult | undefined;
  const group = run.kind === "group restore";
  if (!run.ended || !(group || (run.kind === "restore" && result?.safety))) return null;
  if (undo.data)
    return (
      <Link className="quiet" to={`/runs/${undo.data.id}`}>
        run {undo.data.id} takes it back
      </Link>
    );
  return (
    <>
      <button className="quiet" onClick={() => setAsked(true)}>
        undo
      </button>
      <Sheet title={`Take back run ${run.id}`} open={asked} close={() => setAsked(false)}>
        <p className="my-3 text-sm">
          {group
            ? `Every volume of ${run.subject} goes back to the state right before. ` +
              "What was changed since goes with it; a safety snapshot of each is taken first."
            : (result?.paths ?? []).length === 0
              ? `The whole of ${run.subject} goes back to the state right before that restore. ` +
                "What was changed since goes with it; a safety snapshot is taken first."
              : `${(result?.paths ?? []).join(", ")} goes back to what it was right before that restore, ` +
                "or away when it was not there. Nothing else is touched, and a safety snapshot is taken first."}
        </p>
        <Trouble error={undo.error} />
        <div className="flex gap-3">
          <button className="press press-hand" onClick={() => undo.mutate()} disabled={undo.isPending}>
            Take it back
          </button>
          <button className="quiet" onClick={() => setAsked(false)}>
            Not now
          </button>
        </div>
      </Sheet>
    </>
  );
}
