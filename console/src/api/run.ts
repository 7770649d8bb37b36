import { useQuery } from "@tanstack/react-query";

import { api, type Schemas, told } from "./client";

/** Follows a run until it is over; undefined: none yet. */
export function useRun(id: number | undefined) {
  return useQuery({
    queryKey: ["run", id],
    queryFn: () => told(api.GET("/runs/{id}", { params: { path: { id: id! } } })),
    enabled: id !== undefined,
    refetchInterval: (q) => (q.state.data?.ended ? false : 700),
  });
}

/** Whether a run did what it was to do. */
export function worked(run: Schemas["Run"]) {
  return run.state === "done" || run.state === "done with remarks";
}
