import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";

import { api, once, type Route, type Schemas, told } from "../api/client";
import { ByCommand, Field, Sheet, State, Trouble, Waiting } from "../parts/bits";
import { ago, exact, size, span, stamp } from "../parts/words";

export function Sites() {
  const sites = useQuery({ queryKey: ["sites"], queryFn: () => told(api.GET("/sites")) });
  const routes = useQuery({ queryKey: ["routes"], queryFn: () => told(api.GET("/routes")), refetchInterval: 30_000 });
  const self = useQuery({ queryKey: ["site"], queryFn: () => told(api.GET("/site")) });
  const [dialogue, setDialogue] = useState<"" | "invite" | "pair" | "route">("");
  if (sites.isPending || routes.isPending || self.isPending) return <Waiting what="sites" />;
  if (sites.error ?? routes.error) return <Trouble error={sites.error ?? routes.error} />;
  const peers = sites.data ?? [];
  return (
    <>
      <div className="my-5 flex flex-wrap items-baseline gap-3">
        <h1 className="head">Sites and routes</h1>
        <span className="ml-auto flex flex-wrap gap-3">
          <button className="press" onClick={() => setDialogue("invite")}>Invite a site</button>
          <button className="press" onClick={() => setDialogue("pair")}>Use an invitation</button>
          <button className="press" onClick={() => setDialogue("route")} disabled={peers.length === 0}>Open a route</button>
        </span>
      </div>
      {(routes.data ?? []).map((r) => <RouteRow key={r.name} route={r} self={self.data!.name} />)}
      {(routes.data ?? []).length === 0 && <p className="my-4">{peers.length ? "No routes yet: nothing leaves this site. Open one, and every new snapshot of the volumes it chooses is carried there." : "This site stands alone. Make an invitation at the other site, use it here, then open a route."}</p>}
      <h2 className="head mt-8 border-b border-ink">Paired sites</h2>
      {peers.length === 0 ? <p className="py-2 text-sm text-faint">None.</p> : (
        <div className="overflow-x-auto"><table className="plain">
          <thead><tr><th scope="col">Site</th><th scope="col">Addresses</th><th scope="col">Key</th><th scope="col">Last seen</th><th scope="col"><span className="sr-only">Test</span></th></tr></thead>
          <tbody>{peers.map((p) => <PeerRow key={p.name} peer={p} />)}</tbody>
        </table></div>
      )}
      <Invite open={dialogue === "invite"} close={() => setDialogue("")} />
      <Pair open={dialogue === "pair"} close={() => setDialogue("")} />
      <OpenRoute open={dialogue === "route"} close={() => setDialogue("")} peers={peers.map((p) => p.name)} />
      <ByCommand lines={["candid site list", "candid route list", "candid site check NAME"]} />
    </>
  );
}

/** A route drawn as what it is: a line from here to there, solid when it holds. */
function RouteRow({ route: r, self }: { route: Route; self: string }) {
  const go = useNavigate();
  const run = useMutation({
    mutationFn: () => told(api.POST("/routes/{name}/runs", { params: { path: { name: r.name } }, headers: once() })),
    onSuccess: (x) => void go(`/runs/${x.id}`),
  });
  const broken = r.state === "unreachable" || r.state === "refused";
  return (
    <section aria-label={`Route ${r.name}`} className="my-5 border-t border-ink pt-2">
      <div className="flex flex-wrap items-baseline gap-x-4">
        <h2 className="font-semibold">{r.name}</h2>
        <State word={r.state} />
        <p className="font-say">{r.sentence}</p>
        <button className="press ml-auto" onClick={() => run.mutate()} disabled={run.isPending}>Carry now</button>
      </div>
      <svg viewBox="0 0 900 64" className="my-1 w-full max-w-3xl" role="img" aria-label={`${self} to ${r.to}: ${r.state}`}>
        <line x1="130" x2="770" y1="30" y2="30" stroke={broken ? "var(--hand)" : "var(--ink)"} strokeWidth="1.8" strokeDasharray={broken ? "7 6" : undefined} />
        {broken && <path d="M442,22 l16,16 m0,-16 l-16,16" stroke="var(--hand)" strokeWidth="2.4" />}
        {!broken && <path d="M762,24 l9,6 l-9,6" fill="none" stroke="var(--ink)" strokeWidth="1.8" />}
        <text x="120" y="35" textAnchor="end" fontSize="17" fontFamily="var(--font-say)" fill="var(--ink)" className="capitalize">{self}</text>
        <text x="782" y="35" fontSize="17" fontFamily="var(--font-say)" fill="var(--ink)" className="capitalize">{r.to}</text>
        <text x="450" y="18" textAnchor="middle" fontSize="13" fill="var(--faint)">{size(r.sentBytes)} sent, {size(r.savedBytes)} were there already</text>
        <text x="450" y="54" textAnchor="middle" fontSize="13" fill="var(--faint)">{r.lastOk ? `last carried ${ago(r.lastOk)}` : "nothing carried yet"}{r.nextTry ? `, next try ${stamp(r.nextTry)}` : ""}</text>
      </svg>
      <Trouble error={run.error} />
      <div className="overflow-x-auto"><table className="plain">
        <thead><tr><th scope="col">Volume</th><th scope="col">Newest state there</th><th scope="col">Lag</th><th scope="col">Backlog</th><th scope="col">Carried</th></tr></thead>
        <tbody>{(r.volumes ?? []).map((v) => <tr key={v.volume}><td>{v.volume}</td><td className="font-mono">{v.newest ? stamp(v.newest) : "none yet"}</td><td>{v.newest ? span(v.lagSeconds) : "–"}</td><td>{v.backlog}</td><td>{v.carried}</td></tr>)}</tbody>
      </table></div>
      <p className="text-xs text-faint" title={exact(r.sentBytes)}>chooses {r.labels ? Object.entries(r.labels).map((l) => l.join("=")).join(", ") : (r.names ?? []).join(", ")}</p>
    </section>
  );
}

function PeerRow({ peer: p }: { peer: Schemas["Peer"] }) {
  const check = useMutation({ mutationFn: () => told(api.POST("/sites/{name}/check", { params: { path: { name: p.name } } })) });
  return (
    <>
      <tr>
        <td className="font-semibold capitalize">{p.name}</td><td className="font-mono">{(p.addresses ?? []).join(", ")}</td><td className="font-mono" title={p.key}>{p.key.slice(0, 16)}…</td>
        <td>{p.seen ? ago(p.seen) : "–"}</td><td className="text-right"><button className="quiet" onClick={() => check.mutate()}>{check.isPending ? "testing …" : "test"}</button></td>
      </tr>
      {(check.data ?? check.error) && <tr><td colSpan={5}>{check.data ? <span className="font-say">{check.data.sentence}</span> : <Trouble error={check.error} />}</td></tr>}
    </>
  );
}

function Invite({ open, close }: { open: boolean; close: () => void }) {
  const make = useMutation({ mutationFn: () => told(api.POST("/sites/invitations", { headers: once() })) });
  return (
    <Sheet title="Invite a site" open={open} close={() => { make.reset(); close(); }}>
      <p className="text-sm">The invitation holds this site's addresses and key and a secret that counts once, within an hour. Use it at the other site; both then know each other.</p>
      <Trouble error={make.error} />
      {make.data ? <><textarea readOnly className="field my-3 h-40 w-full font-mono text-xs break-all" aria-label="Invitation" value={make.data.text} onFocus={(e) => e.target.select()} /><p className="text-sm text-faint">It ends {stamp(make.data.ends)}.</p></> : <button className="press my-4" onClick={() => make.mutate()}>Make an invitation</button>}
    </Sheet>
  );
}

function Pair({ open, close }: { open: boolean; close: () => void }) {
  const queries = useQueryClient();
  const [text, setText] = useState("");
  const pair = useMutation({ mutationFn: () => told(api.POST("/sites", { body: { invitation: text }, headers: once() })), onSuccess: () => queries.invalidateQueries({ queryKey: ["sites"] }) });
  const done = () => { pair.reset(); setText(""); close(); };
  return (
    <Sheet title="Use an invitation" open={open} close={done}>
      {pair.data ? <p className="font-say text-lg">Paired with {pair.data.name}. A route can be opened to it now.</p> : (
        <form onSubmit={(e) => { e.preventDefault(); pair.mutate(); }}>
          <Field label="Invitation" help="The whole line, beginning with harbor-invitation:"><textarea className="field h-32 w-full font-mono text-xs break-all" value={text} onChange={(e) => setText(e.target.value)} required /></Field>
          <Trouble error={pair.error} />
          <button className="press" disabled={pair.isPending}>Pair</button>
        </form>
      )}
    </Sheet>
  );
}

function OpenRoute({ open, close, peers }: { open: boolean; close: () => void; peers: string[] }) {
  const queries = useQueryClient();
  const [name, setName] = useState("");
  const [to, setTo] = useState("");
  const [labels, setLabels] = useState("");
  const add = useMutation({
    mutationFn: () => told(api.POST("/routes", { body: { name, to: to || peers[0], labels: Object.fromEntries(labels.split(/[\s,]+/).filter(Boolean).map((p) => p.split("=") as [string, string])) }, headers: once() })),
    onSuccess: () => { void queries.invalidateQueries(); setName(""); setLabels(""); close(); },
  });
  return (
    <Sheet title="Open a route" open={open} close={() => { add.reset(); close(); }}>
      <form onSubmit={(e) => { e.preventDefault(); add.mutate(); }}>
        <Field label="Name"><input className="field w-full" value={name} onChange={(e) => setName(e.target.value)} placeholder={`to-${peers[0] ?? "site"}`} required /></Field>
        <Field label="To"><select className="field" value={to || peers[0]} onChange={(e) => setTo(e.target.value)}>{peers.map((p) => <option key={p}>{p}</option>)}</select></Field>
        <Field label="Volumes" help="Labels that must all match, as key=value."><input className="field w-full" value={labels} onChange={(e) => setLabels(e.target.value)} placeholder="collection=herbarium" required /></Field>
        <Trouble error={add.error} />
        <button className="press" disabled={add.isPending}>Open it</button>
      </form>
    </Sheet>
  );
}
