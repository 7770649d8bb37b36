import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";

import { api, once, told } from "../api/client";
import { Command, Trouble } from "../parts/ui";

/** Leads from an empty site to the first file that was brought back from another one. */
export function FirstSteps() {
  const queries = useQueryClient();
  const steps = useQuery({
    queryKey: ["first-steps"],
    queryFn: () => told(api.GET("/first-steps")),
    refetchInterval: (q) => (q.state.data?.offered ? 5_000 : false),
  });
  const away = useMutation({
    mutationFn: () => told(api.PUT("/first-steps", { body: { putAway: true }, headers: once() })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["first-steps"] }),
  });
  const all = steps.data?.steps ?? [];
  if (!steps.data?.offered) return null;
  const next = all.find((s) => !s.done)!;
  return (
    <section aria-labelledby="first-steps" className="my-6 border border-ink p-4">
      <div className="flex flex-wrap items-baseline gap-3">
        <h2 id="first-steps" className="head">
          First steps
        </h2>
        <span className="text-sm text-faint">
          {steps.data.done} of {all.length} done
        </span>
        <button className="quiet ml-auto text-sm" onClick={() => away.mutate()}>
          put them away
        </button>
      </div>
      <Trouble error={away.error} />
      <ol className="mt-2">
        {all.map((s) => (
          <li
            key={s.code}
            className="grid grid-cols-[1.5rem_minmax(0,1fr)] items-baseline gap-x-2 py-1"
            aria-current={s === next && "step"}
          >
            <span aria-hidden className="font-mono">
              {s.done ? "✓" : s === next ? "▸" : "·"}
            </span>
            <span className={s === next ? "font-semibold" : s.done ? "text-faint" : ""}>
              {s.text}
              {s.done && <span className="sr-only"> (done)</span>}
            </span>
            {s === next && (
              <div className="col-start-2 text-sm">
                <p className="my-1">{s.help}</p>
                <p className="my-2 flex flex-wrap items-baseline gap-3">
                  {s.link && (
                    <Link className="press" to={s.link}>
                      {words[s.code]}
                    </Link>
                  )}
                  <Command text={s.command} />
                </p>
              </div>
            )}
          </li>
        ))}
      </ol>
    </section>
  );
}

/** What is pressed to do a step. */
const words: Record<string, string> = {
  volume: "Protect a directory",
  policy: "Write it from an example",
  snapshot: "Go to the volume",
  site: "Use an invitation",
  route: "Open a route",
  copy: "See how far it is",
  back: "Choose a file",
};
