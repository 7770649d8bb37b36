import { useQuery } from "@tanstack/react-query";
import { Route, Routes } from "react-router";

import { api, Problem, type Schemas, told } from "./api/client";
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
import { SignIn } from "./pages/signin";
import { Sites } from "./pages/sites";
import { Snapshots } from "./pages/snapshots";
import { Space } from "./pages/space";
import { Today } from "./pages/today";
import { VolumePage } from "./pages/volume";
import { Volumes } from "./pages/volumes";
import { Masthead } from "./parts/masthead";
import { Trouble, Waiting } from "./parts/ui";
import { setTimes } from "./parts/times";
import { TimeProvider } from "./parts/time";

type Me = Schemas["Me"];

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
  setTimes(me.data.times);
  if (me.data.role !== "file owner") return <Desk me={me.data} />;
  return (
    <TimeProvider>
      <Masthead me={me.data} />
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
      <Masthead me={me} />
      <main className="mx-auto max-w-[1240px] px-4 pb-16 sm:px-6">
        {site.data.held && (
          <p role="status" className="my-3 border-l-4 border-hand bg-sheet px-3 py-2 text-sm">
            Nothing is removed at present: {site.data.held}
          </p>
        )}
        <Routes>
          <Route path="/" element={<Today />} />
          <Route path="/volumes" element={<Volumes />} />
          <Route path="/snapshots" element={<Snapshots />} />
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
