import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { api, once, told } from "../api/client";
import { Command, Trouble } from "./ui";
import { word } from "./words";

type Kind = "policy" | "route" | "group" | "site";

/** What people say of a policy, a route, a group or a site, to read and to change. */
export function Described({ kind, name, text = "" }: { kind: Kind; name: string; text?: string }) {
  const queries = useQueryClient();
  const [draft, setDraft] = useState<string | null>(null);
  const say = useMutation({
    mutationFn: (t: string) =>
      told(
        api.PUT("/descriptions/{kind}/{name}", {
          params: { path: { kind, name } },
          body: { text: t },
          headers: once(),
        }),
      ),
    onSuccess: () => {
      setDraft(null);
      void queries.invalidateQueries();
    },
  });
  if (draft === null)
    return (
      <span className="text-sm">
        {text && <q className="font-say">{text}</q>}{" "}
        <button className="quiet min-h-6 text-faint" onClick={() => setDraft(text)}>
          {text ? "say it otherwise" : "describe it"}
        </button>
      </span>
    );
  return (
    <form
      className="my-1 flex w-full flex-wrap items-baseline gap-3 text-sm"
      onSubmit={(e) => {
        e.preventDefault();
        say.mutate(draft);
      }}
    >
      <input
        className="field min-w-0 grow"
        aria-label={`What the ${kind} ${name} is for`}
        value={draft}
        maxLength={500}
        onChange={(e) => setDraft(e.target.value)}
      />
      <button className="press" disabled={say.isPending}>
        Say so
      </button>
      <button type="button" className="quiet" onClick={() => setDraft(null)}>
        Not now
      </button>
      <Command text={`candid purpose ${kind} ${word(name)}${draft ? ` ${word(draft)}` : ""}`} />
      <Trouble error={say.error} />
    </form>
  );
}
