import { type QueryClient, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";

import { shownTimes } from "../parts/times";
import type { Run } from "./client";
import { gather } from "./gather";

const touched: Record<string, string[]> = {
  snapshots: ["status", "volumes", "volume", "timeline", "snapshots", "store", "browse", "groups"],
  volumes: ["status", "volumes", "volume", "groups", "away", "runbooks"],
  policies: ["status", "policies", "volumes", "volume", "timeline"],
  routes: ["status", "routes", "volumes", "volume", "timeline"],
  outlets: ["outlets", "status"],
  sites: ["sites", "desk"],
  alarms: ["status", "alarms"],
  failovers: ["status", "failovers", "drills", "runbooks", "left-behind", "away"],
  runbooks: ["status", "runbooks"],
};

/**
 * Keeps what is shown in step with the site, by its event stream. Only a visible page
 * listens: a browser has few connections to one address, and a stream takes one whole.
 */
export function useEvents(on: boolean) {
  const queries = useQueryClient();
  useEffect(() => {
    if (!on) return;
    let source: EventSource | undefined;
    const close = () => {
      source?.close();
      source = undefined;
    };
    const follow = () => {
      if (document.visibilityState !== "visible") return close();
      if (!source) source = listen(queries);
    };
    const back = () => {
      if (document.visibilityState === "visible" && !source) void queries.invalidateQueries();
      follow();
    };
    follow();
    document.addEventListener("visibilitychange", back);
    window.addEventListener("pagehide", close);
    window.addEventListener("pageshow", follow);
    return () => {
      document.removeEventListener("visibilitychange", back);
      window.removeEventListener("pagehide", close);
      window.removeEventListener("pageshow", follow);
      close();
    };
  }, [on, queries]);
}

function listen(queries: QueryClient): EventSource {
  const changed = gather(
    (key) => void queries.invalidateQueries({ queryKey: [key] }),
    (key) => queries.isFetching({ queryKey: [key] }) > 0,
  );
  const source = new EventSource(`/api/v1/events?times=${encodeURIComponent(shownTimes())}`);
  source.addEventListener("run", (e) => {
    const run = (JSON.parse(e.data) as { run: Run }).run;
    queries.setQueryData(["run", run.id], (old: Run | undefined) => ({ ...old, ...run, log: old?.log }));
    queries.setQueryData(["runs"], (old: { items: Run[] | null } | undefined) => {
      if (!old?.items) return old;
      const rest = old.items.filter((r) => r.id !== run.id);
      return { ...old, items: [run, ...rest].sort((a, b) => b.id - a.id) };
    });
    if (run.ended) {
      void queries.invalidateQueries({ queryKey: ["run", run.id] });
      for (const key of ["status", "recipes", "trials", "clones", "outlets"]) changed(key);
    }
  });
  for (const [topic, keys] of Object.entries(touched)) {
    source.addEventListener(topic, () => keys.forEach(changed));
  }
  return source;
}
