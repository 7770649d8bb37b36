import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { api, once, told } from "../api/client";
import { Field, Sheet, Trouble } from "./ui";

/** Lets a person change the own password. */
export function OwnPassword() {
  const [open, setOpen] = useState(false);
  const [old, setOld] = useState("");
  const [fresh, setFresh] = useState("");
  const queries = useQueryClient();
  const change = useMutation({
    mutationFn: () => told(api.PUT("/me/password", { body: { old, new: fresh }, headers: once() })),
    onSuccess: () => queries.resetQueries(),
  });
  return (
    <>
      <button className="quiet" onClick={() => setOpen(true)}>
        password
      </button>
      <Sheet title="Change your password" open={open} close={() => setOpen(false)}>
        <form
          onSubmit={(e) => {
            e.preventDefault();
            change.mutate();
          }}
        >
          <Field label="The present one">
            <input
              type="password"
              autoComplete="current-password"
              className="field w-full"
              value={old}
              onChange={(e) => setOld(e.target.value)}
              required
            />
          </Field>
          <Field label="The new one" help="At least 10 characters. You sign in with it everywhere anew.">
            <input
              type="password"
              autoComplete="new-password"
              className="field w-full"
              value={fresh}
              onChange={(e) => setFresh(e.target.value)}
              minLength={10}
              required
            />
          </Field>
          <Trouble error={change.error} />
          <div className="mt-3 flex gap-3">
            <button className="press" disabled={change.isPending}>
              Change it
            </button>
            <button type="button" className="quiet" onClick={() => setOpen(false)}>
              Not now
            </button>
          </div>
        </form>
      </Sheet>
    </>
  );
}
