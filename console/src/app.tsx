import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { NavLink, Route, Routes, useLocation } from "react-router";

import { api, once, Problem, type Schemas, told } from "./api/client";
import { signIn } from "./api/enter";
import { useEvents } from "./api/events";
import { Alarms } from "./pages/alarms";
import { DrillPage } from "./pages/drill";
import { FailoverPage } from "./pages/failover";
import { Ledger } from "./pages/ledger";
import { Objectives } from "./pages/objectives";
import { OwnerPage } from "./pages/owner";
import { People } from "./pages/people";
import { Policies } from "./pages/policies";
import { Recovery } from "./pages/recovery";
import { RoutePage } from "./pages/route";
import { RunPage, Runs } from "./pages/runs";
import { Sites } from "./pages/sites";
import { Space } from "./pages/space";
import { Today } from "./pages/today";
import { VolumePage } from "./pages/volume";
import { Volumes } from "./pages/volumes";
import { Field, Sheet, Trouble, Waiting } from "./parts/ui";
import { TimeProvider } from "./parts/time";

type Me = Schemas["Me"];

const pages = [
  ["/", "Today"],
  ["/volumes", "Volumes"],
  ["/policies", "Policies"],
  ["/sites", "Sites"],
  ["/runs", "Runs"],
  ["/recovery", "Recovery"],
  ["/space", "Space"],
  ["/objectives", "Objectives"],
  ["/alarms", "Alarms"],
  ["/ledger", "Ledger"],
  ["/people", "People"],
];

export function App({ refused }: { refused: Problem | undefined }) {
  const me = useQuery({ queryKey: ["me"], queryFn: () => told(api.GET("/me")), retry: false });
  useEvents(me.isSuccess);
  if (me.isPending)
    return (
      <main className="p-8">
        <Waiting what="the site" />
      </main>
    );
  if (me.error)
    return me.error instanceof Problem && me.error.status === 401 ? (
      <SignIn refused={refused} />
    ) : (
      <main className="p-8">
        <Trouble error={me.error} />
      </main>
    );
  if (me.data.role !== "file owner") return <Desk me={me.data} />;
  return (
    <TimeProvider>
      <Masthead me={me.data} pages={[]} />
      <main className="mx-auto max-w-[1240px] px-4 pb-16 sm:px-6">
        <OwnerPage me={me.data} />
      </main>
    </TimeProvider>
  );
}

/** The console of whoever looks after the site. */
function Desk({ me }: { me: Me }) {
  const site = useQuery({ queryKey: ["site"], queryFn: () => told(api.GET("/site")), retry: false });
  if (site.isPending)
    return (
      <main className="p-8">
        <Waiting what="the site" />
      </main>
    );
  if (site.error)
    return (
      <main className="p-8">
        <Trouble error={site.error} />
      </main>
    );
  return (
    <TimeProvider>
      <Masthead
        me={me}
        pages={pages.filter(([to]) => me.role !== "operator" || (to !== "/people" && to !== "/ledger"))}
      />
      <main className="mx-auto max-w-[1240px] px-4 pb-16 sm:px-6">
        {site.data.held && (
          <p role="status" className="my-3 border-l-4 border-hand bg-sheet px-3 py-2 text-sm">
            Nothing is removed at present: {site.data.held}
          </p>
        )}
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
          <Route path="/recovery" element={<Recovery site={me.site} />} />
          <Route path="/failovers/:id" element={<FailoverPage />} />
          <Route path="/drills/:id" element={<DrillPage />} />
          <Route path="/people" element={<People mayChange={me.role === "administrator"} />} />
          <Route path="/ledger" element={<Ledger />} />
          <Route path="/space" element={<Space />} />
          <Route path="/objectives" element={<Objectives />} />
          <Route path="*" element={<p className="my-8">There is no such page. Choose one above.</p>} />
        </Routes>
      </main>
    </TimeProvider>
  );
}

function Masthead({ me, pages }: { me: Me; pages: string[][] }) {
  const { search } = useLocation();
  const queries = useQueryClient();
  const out = useMutation({
    mutationFn: () => fetch("/api/v1/session", { method: "DELETE" }),
    onSuccess: () => queries.resetQueries(),
  });
  const at = new URLSearchParams(search).get("at");
  const keep = at ? `?at=${encodeURIComponent(at)}` : "";
  return (
    <header className="border-b border-ink print:hidden">
      <div className="mx-auto flex max-w-[1240px] flex-wrap items-baseline gap-x-6 px-4 py-3 sm:px-6">
        <span className="font-say text-2xl font-semibold capitalize">{me.site}</span>
        {pages.length > 0 && (
          <nav aria-label="Pages" className="flex flex-wrap gap-x-4">
            {pages.map(([to = "/", label]) => (
              <NavLink
                key={to}
                to={to + keep}
                end={to === "/"}
                className={({ isActive }) => (isActive ? "font-semibold border-b-2 border-ink" : "quiet")}
              >
                {label}
              </NavLink>
            ))}
          </nav>
        )}
        <span className="ml-auto flex gap-4 text-sm text-faint">
          <span className="hidden sm:inline" title={me.role}>
            {me.name}
          </span>
          {me.person && <OwnPassword />}
          <button className="quiet" onClick={() => out.mutate()}>
            sign out
          </button>
        </span>
      </div>
    </header>
  );
}

function OwnPassword() {
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

function SignIn({ refused }: { refused: Problem | undefined }) {
  const queries = useQueryClient();
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const [token, setToken] = useState("");
  const [byToken, setByToken] = useState(false);
  const enter = useMutation({
    mutationFn: () => signIn(byToken ? { token } : { name, password }),
    onSuccess: () => queries.resetQueries(),
  });
  return (
    <main className="mx-auto mt-[14vh] max-w-md px-4">
      <h1 className="font-say text-3xl font-semibold">Candid Harbor</h1>
      <form
        className="mt-4"
        onSubmit={(e) => {
          e.preventDefault();
          enter.mutate();
        }}
      >
        {byToken ? (
          <>
            <label className="block font-semibold" htmlFor="token">
              Token
            </label>
            <input
              id="token"
              type="password"
              autoComplete="current-password"
              className="field w-full font-mono"
              value={token}
              onChange={(e) => setToken(e.target.value)}
              autoFocus
              required
            />
            <p className="my-2 text-sm text-faint">
              On the site's host, <code className="font-mono text-ink">candid token add NAME</code> prints a new one.
            </p>
          </>
        ) : (
          <>
            <label className="block font-semibold" htmlFor="name">
              Name
            </label>
            <input
              id="name"
              autoComplete="username"
              className="field w-full"
              value={name}
              onChange={(e) => setName(e.target.value)}
              autoFocus
              required
            />
            <label className="mt-3 block font-semibold" htmlFor="password">
              Password
            </label>
            <input
              id="password"
              type="password"
              autoComplete="current-password"
              className="field w-full"
              value={password}
              onChange={(e) => setPassword(e.target.value)}
              required
            />
          </>
        )}
        <div className="mt-4 flex items-baseline gap-4">
          <button className="press" disabled={enter.isPending}>
            Sign in
          </button>
          <button
            type="button"
            className="quiet text-sm"
            onClick={() => {
              setByToken(!byToken);
              enter.reset();
            }}
          >
            {byToken ? "by name and password instead" : "by a token instead"}
          </button>
        </div>
      </form>
      <Trouble error={enter.error ?? (enter.isIdle ? refused : undefined)} />
    </main>
  );
}
