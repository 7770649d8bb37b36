import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";

import { api, once, told } from "../api/client";
import { ChooseField } from "../parts/choose";
import { useAddress } from "../parts/address";
import { ByCommand, Field, Sheet, State, Trouble, Waiting } from "../parts/ui";
import { stamp } from "../parts/times";
import { Crates } from "./crates";
import { IncomingList } from "./incoming";
import { SiteMap } from "./map";
import { Order } from "./order";
import { Outlets } from "./outlets";
import { PeerRow } from "./peers";
import { Places } from "./places";
import { RouteForm } from "./routeform";

export function Sites() {
  const sites = useQuery({ queryKey: ["sites"], queryFn: () => told(api.GET("/sites")) });
  const routes = useQuery({ queryKey: ["routes"], queryFn: () => told(api.GET("/routes")), refetchInterval: 30_000 });
  const self = useQuery({ queryKey: ["site"], queryFn: () => told(api.GET("/site")) });
  const volumes = useQuery({
    queryKey: ["volumes"],
    queryFn: () => told(api.GET("/volumes")),
    refetchInterval: 60_000,
  });
  const [get, set] = useAddress();
  const dialogue = get("do");
  const setDialogue = (d: "" | "invite" | "pair" | "route" | "setup") => set("do", d);
  if (sites.isPending || routes.isPending || self.isPending) return <Waiting what="sites" />;
  if (sites.error ?? routes.error) return <Trouble error={sites.error ?? routes.error} />;
  const peers = sites.data ?? [];
  // What sites that take copies for themselves last told: the volume that is worst off.
  const taken: Record<string, number> = {};
  for (const v of volumes.data ?? [])
    for (const p of v.places ?? []) if (p.told) taken[p.place] = Math.max(taken[p.place] ?? 0, p.lagSeconds);
  return (
    <>
      <div className="my-5 flex flex-wrap items-baseline gap-3">
        <h1 className="head">Sites and routes</h1>
        <span className="ml-auto flex flex-wrap gap-3">
          <button className="press" onClick={() => setDialogue("invite")}>
            Invite a site
          </button>
          <button className="press" onClick={() => setDialogue("pair")}>
            Use an invitation
          </button>
          <button className="press" onClick={() => setDialogue("setup")}>
            Set up several
          </button>
          <button className="press" onClick={() => setDialogue("route")} disabled={peers.length === 0}>
            Open a route
          </button>
        </span>
      </div>
      {peers.length > 0 && <SiteMap self={self.data!.name} peers={peers} routes={routes.data ?? []} taken={taken} />}
      {(routes.data ?? []).map((r) => (
        <p key={r.name} className="my-1 flex flex-wrap items-baseline gap-x-3">
          <Link className="quiet font-semibold" to={`/routes/${encodeURIComponent(r.name)}`}>
            {r.name}
          </Link>{" "}
          <State word={r.state} /> <span className="font-say">{r.sentence}</span>
        </p>
      ))}
      {(routes.data ?? []).length === 0 && (
        <p className="my-4">
          {peers.length
            ? "No routes yet: nothing leaves this site. " +
              "Open one, and every new snapshot of the volumes it chooses is carried there."
            : "This site stands alone. Make an invitation at the other site, use it here, then open a route."}
        </p>
      )}
      <h2 className="head mt-8 border-b border-ink">Paired sites</h2>
      {self.data && self.data.release !== "unknown" && (
        <p className="py-1 text-sm text-faint">This site runs the build of {self.data.release}.</p>
      )}
      {peers.length === 0 ? (
        <p className="py-2 text-sm text-faint">None.</p>
      ) : (
        peers.map((p) => <PeerRow key={p.name} peer={p} />)
      )}
      <Places />
      <Outlets />
      <IncomingList />
      <Crates routes={routes.data ?? []} />
      <Order />
      <Invite open={dialogue === "invite"} close={() => setDialogue("")} />
      <Pair open={dialogue === "pair"} close={() => setDialogue("")} />
      <SetUp open={dialogue === "setup"} close={() => setDialogue("")} />
      {dialogue === "route" && <RouteForm open close={() => setDialogue("")} peers={peers} />}
      <ByCommand
        lines={[
          "candid site list",
          "candid route list",
          "candid route incoming",
          "candid crate write PATH --route NAME --seal",
          "candid site order SITE SITE",
          "candid site grant NAME read",
          "candid pace show NAME",
          "candid outlet list",
        ]}
      />
    </>
  );
}

type May = "both" | "over" | "read" | "all" | "nothing";
type Grant = "offer" | "read" | "see" | "configure" | "take-over" | "nothing";
const may = {
  both: ["offer", "see"],
  over: ["offer", "see", "take-over"],
  read: ["read", "see"],
  all: ["offer", "read", "see", "configure"],
  nothing: ["nothing"],
} as Record<May, Grant[]>;

function MayField({ value, set }: { value: May; set: (m: May) => void }) {
  return (
    <ChooseField
      label="What the other site may do here"
      value={value}
      choose={set}
      options={[
        { value: "both", label: "bring snapshots, and look" },
        { value: "over", label: "bring snapshots, look, and take volumes over" },
        { value: "read", label: "take snapshots, and look: for a vault that pulls" },
        { value: "all", label: "bring and take snapshots, look and configure" },
        { value: "nothing", label: "nothing" },
      ]}
    />
  );
}

function Invite({ open, close }: { open: boolean; close: () => void }) {
  const [grant, setGrant] = useState<May>("both");
  const make = useMutation({
    mutationFn: () => told(api.POST("/sites/invitations", { body: { grants: may[grant] }, headers: once() })),
  });
  return (
    <Sheet
      title="Invite a site"
      open={open}
      close={() => {
        make.reset();
        close();
      }}
    >
      <p className="text-sm">
        The invitation holds this site's addresses and key and a secret that counts once, within an hour. Use it at the
        other site; both then know each other.
      </p>
      <Trouble error={make.error} />
      {make.data ? (
        <>
          <textarea
            readOnly
            className="field my-3 h-40 w-full font-mono text-xs break-all"
            aria-label="Invitation"
            value={make.data.text}
            onFocus={(e) => e.target.select()}
          />
          <p className="text-sm text-faint">It ends {stamp(make.data.ends)}.</p>
        </>
      ) : (
        <>
          <MayField value={grant} set={setGrant} />
          <button className="press my-4" onClick={() => make.mutate()}>
            Make an invitation
          </button>
        </>
      )}
    </Sheet>
  );
}

function Pair({ open, close }: { open: boolean; close: () => void }) {
  const queries = useQueryClient();
  const [text, setText] = useState("");
  const [grant, setGrant] = useState<May>("both");
  const pair = useMutation({
    mutationFn: () => told(api.POST("/sites", { body: { invitation: text, grants: may[grant] }, headers: once() })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["sites"] }),
  });
  const done = () => {
    pair.reset();
    setText("");
    close();
  };
  return (
    <Sheet title="Use an invitation" open={open} close={done}>
      {pair.data ? (
        <p className="font-say text-lg">Paired with {pair.data.name}. A route can be opened to it now.</p>
      ) : (
        <form
          onSubmit={(e) => {
            e.preventDefault();
            pair.mutate();
          }}
        >
          <Field label="Invitation" help="The whole line, beginning with harbor-invitation:">
            <textarea
              className="field h-32 w-full font-mono text-xs break-all"
              value={text}
              onChange={(e) => setText(e.target.value)}
              required
            />
          </Field>
          <MayField value={grant} set={setGrant} />
          <Trouble error={pair.error} />
          <button className="press" disabled={pair.isPending}>
            Pair
          </button>
        </form>
      )}
    </Sheet>
  );
}

/** Pairs with several sites and opens the routes, in one dialogue with one summary. */
function SetUp({ open, close }: { open: boolean; close: () => void }) {
  const queries = useQueryClient();
  const [text, setText] = useState("");
  const [volumes, setVolumes] = useState("");
  const [grant, setGrant] = useState<May>("both");
  const go = useMutation({
    mutationFn: (dryRun: boolean) => {
      const parts = volumes.split(/[\s,]+/).filter(Boolean);
      const labels = Object.fromEntries(
        parts.filter((p) => !p.startsWith("name=")).map((p) => p.split("=") as [string, string]),
      );
      const names = parts.filter((p) => p.startsWith("name=")).map((p) => p.slice(5));
      return told(
        api.POST("/sites/setup", {
          body: { invitations: text.split(/\s+/).filter(Boolean), grants: may[grant], labels, names, dryRun },
          headers: once(),
        }),
      ).then((r) => ({ ...r, dryRun }));
    },
    onSuccess: () => queries.invalidateQueries(),
  });
  const done = () => {
    go.reset();
    close();
  };
  return (
    <Sheet title="Set up several sites" open={open} close={done} wide>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          go.mutate(false);
        }}
      >
        <Field label="Invitations" help="One from each of the other sites, one a line.">
          <textarea
            className="field h-32 w-full font-mono text-xs break-all"
            value={text}
            onChange={(e) => {
              setText(e.target.value);
              go.reset();
            }}
            required
          />
        </Field>
        <MayField value={grant} set={setGrant} />
        <Field
          label="Volumes to carry"
          help="Labels as key=value, or name=VOLUME. A route opens to each site that lets this one bring snapshots."
        >
          <input
            className="field w-full"
            value={volumes}
            onChange={(e) => setVolumes(e.target.value)}
            placeholder="collection=herbarium"
            required
          />
        </Field>
        <Trouble error={go.error} />
        {go.data && (
          <div role="status" className="my-3 border-l-4 border-now bg-sheet px-3 py-2">
            {(go.data.steps ?? []).map((s) => (
              <p key={s.text} className={s.failed ? "text-hand" : ""}>
                {s.failed && "▲ "}
                {s.text}
              </p>
            ))}
            <p className="font-say">{go.data.sentence}</p>
          </div>
        )}
        <div className="flex gap-3">
          <button
            type="button"
            className="press"
            onClick={() => go.mutate(true)}
            disabled={go.isPending || !text || !volumes}
          >
            What would it do?
          </button>
          {go.data && !go.data.dryRun ? (
            <button type="button" className="press" onClick={done}>
              Close
            </button>
          ) : (
            <button className="press" disabled={go.isPending}>
              Do it
            </button>
          )}
        </div>
      </form>
    </Sheet>
  );
}
