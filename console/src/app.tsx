import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { NavLink, Route, Routes, useLocation } from "react-router";

import { api, Problem, told } from "./api/client";
import { useEvents } from "./api/events";
import { Alarms } from "./pages/alarms";
import { Objectives } from "./pages/objectives";
import { Policies } from "./pages/policies";
import { Recovery } from "./pages/recovery";
import { RoutePage } from "./pages/route";
import { RunPage, Runs } from "./pages/runs";
import { Sites } from "./pages/sites";
import { Space } from "./pages/space";
import { Today } from "./pages/today";
import { VolumePage } from "./pages/volume";
import { Volumes } from "./pages/volumes";
import { Trouble, Waiting } from "./parts/bits";
import { TimeProvider } from "./parts/time";

const pages = [
  ["/", "Today"], ["/volumes", "Volumes"], ["/policies", "Policies"], ["/sites", "Sites"], ["/runs", "Runs"], ["/recovery", "Recovery"], ["/space", "Space"], ["/objectives", "Objectives"], ["/alarms", "Alarms"],
];

export function App() {
  const site = useQuery({ queryKey: ["site"], queryFn: () => told(api.GET("/site")), retry: false });
  useEvents(site.isSuccess);
  if (site.isPending) return <main className="p-8"><Waiting what="the site" /></main>;
  if (site.error) return site.error instanceof Problem && site.error.status === 401 ? <SignIn /> : <main className="p-8"><Trouble error={site.error} /></main>;
  return (
    <TimeProvider>
      <Masthead name={site.data.name} />
      <main className="mx-auto max-w-[1240px] px-4 pb-16 sm:px-6">
        {site.data.held && <p role="status" className="my-3 border-l-4 border-hand bg-sheet px-3 py-2 text-sm">Nothing is removed at present: {site.data.held}</p>}
        <Routes>
          <Route path="/" element={<Today />} />
          <Route path="/volumes" element={<Volumes />} />
          <Route path="/volumes/:name" element={<VolumePage />} />
          <Route path="/policies" element={<Policies />} />
          <Route path="/sites" element={<Sites />} />
          <Route path="/routes/:name" element={<RoutePage />} />
          <Route path="/alarms" element={<Alarms />} />
          <Route path="/runs" element={<Runs />} />
          <Route path="/runs/:id" element={<RunPage />} />
          <Route path="/recovery" element={<Recovery />} />
          <Route path="/space" element={<Space />} />
          <Route path="/objectives" element={<Objectives />} />
          <Route path="*" element={<p className="my-8">There is no such page. Choose one above.</p>} />
        </Routes>
      </main>
    </TimeProvider>
  );
}

function Masthead({ name }: { name: string }) {
  const { search } = useLocation();
  const queries = useQueryClient();
  const out = useMutation({
    mutationFn: () => fetch("/api/v1/session", { method: "DELETE" }),
    onSuccess: () => queries.resetQueries(),
  });
  const at = new URLSearchParams(search).get("at");
  const keep = at ? `?at=${encodeURIComponent(at)}` : "";
  return (
    <header className="border-b border-ink">
      <div className="mx-auto flex max-w-[1240px] flex-wrap items-baseline gap-x-6 px-4 py-3 sm:px-6">
        <span className="font-say text-2xl font-semibold capitalize">{name}</span>
        <nav aria-label="Pages" className="flex flex-wrap gap-x-5">
          {pages.map(([to, label]) => (
            <NavLink key={to} to={to + keep} end={to === "/"} className={({ isActive }) => (isActive ? "font-semibold border-b-2 border-ink" : "quiet")}>{label}</NavLink>
          ))}
        </nav>
        <span className="ml-auto flex gap-4 text-sm text-faint">
          <span className="hidden sm:inline">Candid Harbor</span>
          <button className="quiet" onClick={() => out.mutate()}>sign out</button>
        </span>
      </div>
    </header>
  );
}

function SignIn() {
  const queries = useQueryClient();
  const [token, setToken] = useState("");
  const enter = useMutation({
    mutationFn: async () => {
      const r = await fetch("/api/v1/session", { method: "POST", headers: { "Content-Type": "application/json" }, body: JSON.stringify({ token }) });
      if (!r.ok) throw new Problem(((await r.json()) as { detail?: string }).detail ?? "The token was refused.", r.status);
    },
    onSuccess: () => queries.resetQueries(),
  });
  return (
    <main className="mx-auto mt-[18vh] max-w-md px-4">
      <h1 className="font-say text-3xl font-semibold">Candid Harbor</h1>
      <p className="my-3 text-faint">Sign in with a token of this site. On its host, <code className="font-mono text-ink">candid token add NAME</code> prints a new one.</p>
      <form onSubmit={(e) => { e.preventDefault(); enter.mutate(); }}>
        <label className="block font-semibold" htmlFor="token">Token</label>
        <div className="flex gap-2">
          <input id="token" type="password" autoComplete="current-password" className="field flex-1 font-mono" value={token} onChange={(e) => setToken(e.target.value)} autoFocus required />
          <button className="press" disabled={enter.isPending}>Sign in</button>
        </div>
      </form>
      <Trouble error={enter.error} />
    </main>
  );
}
