import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { api, once, type Schemas, told } from "../api/client";
import { Pick } from "../parts/pick";
import { ChooseField } from "../parts/choose";
import { ByCommand, Field, Sheet, Trouble, Waiting } from "../parts/ui";
import { stamp } from "../parts/times";

type Person = Schemas["Person"];
type Role = Person["role"];
const roles: [Role, string][] = [
  ["administrator", "may do everything"],
  ["operator", "the daily work: snapshots, routes, restores, alarms"],
  ["auditor", "looks at records and the ledger, not at files"],
  ["file owner", "moves through time in own folders, and brings own files back"],
];

/** Who may sign in, and the tokens of programs. */
export function People({ mayChange }: { mayChange: boolean }) {
  const queries = useQueryClient();
  const people = useQuery({ queryKey: ["people"], queryFn: () => told(api.GET("/people")) });
  const tokens = useQuery({ queryKey: ["tokens"], queryFn: () => told(api.GET("/tokens")) });
  const [adding, setAdding] = useState(false);
  const [making, setMaking] = useState(false);
  const [granting, setGranting] = useState<Person | null>(null);
  const [changing, setChanging] = useState<Person | null>(null);
  const [leaving, setLeaving] = useState<Person | null>(null);
  const [ending, setEnding] = useState("");
  const again = () => {
    void queries.invalidateQueries({ queryKey: ["people"] });
    void queries.invalidateQueries({ queryKey: ["tokens"] });
  };
  const remove = useMutation({
    mutationFn: (name: string) => told(api.DELETE("/people/{name}", { params: { path: { name } }, headers: once() })),
    onSuccess: () => {
      setLeaving(null);
      again();
    },
  });
  const endToken = useMutation({
    mutationFn: (name: string) => told(api.DELETE("/tokens/{name}", { params: { path: { name } }, headers: once() })),
    onSuccess: () => {
      setEnding("");
      again();
    },
  });
  const end = useMutation({
    mutationFn: ({ name, volume, path }: { name: string; volume: string; path: string }) =>
      told(
        api.POST("/people/{name}/folders", {
          params: { path: { name } },
          body: { volume, paths: [path], end: true },
          headers: once(),
        }),
      ),
    onSuccess: again,
  });
  const all = people.data ?? [];
  return (
    <>
      <div className="my-5 flex flex-wrap items-baseline gap-3">
        <h1 className="head">People</h1>
        {mayChange && (
          <button className="press ml-auto" onClick={() => setAdding(true)}>
            Let someone sign in
          </button>
        )}
      </div>
      <Trouble error={people.error ?? tokens.error ?? end.error} />
      {people.isPending && <Waiting what="the people" />}
      {all.length === 0 && !people.isPending && (
        <p className="text-sm text-faint">
          Nobody signs in by name yet. Whoever shows a token may do everything; let people sign in so that the ledger
          can tell them apart and each has the rights of a role.
        </p>
      )}
      {all.map((p) => (
        <div key={p.name} className="flex flex-wrap items-baseline gap-x-4 gap-y-1 border-b border-rule py-2 text-sm">
          <span className="font-semibold">{p.name}</span>
          <span>
            {p.role}
            {p.uid !== undefined && (
              <span className="text-faint">
                , user {p.uid} in {(p.gids ?? []).join(", ")}
              </span>
            )}
          </span>
          <span className="min-w-0 grow">
            {p.role === "file owner" &&
              ((p.grants ?? []).length === 0 ? (
                <span className="text-hand">sees nothing yet</span>
              ) : (
                <ul>
                  {(p.grants ?? []).flatMap((g) =>
                    (g.paths ?? []).map((at) => (
                      <li key={g.volume + at}>
                        <span className="mr-3">
                          {g.volume}
                          {at ? `/${at}` : ", all of it"}
                        </span>
                        {mayChange && (
                          <button
                            className="quiet"
                            aria-label={`Take back ${g.volume} ${at} of ${p.name}`}
                            onClick={() => end.mutate({ name: p.name, volume: g.volume, path: at })}
                          >
                            take back
                          </button>
                        )}
                      </li>
                    )),
                  )}
                </ul>
              ))}
          </span>
          {mayChange && p.role === "file owner" && (
            <button className="quiet" onClick={() => setGranting(p)}>
              grant folders
            </button>
          )}
          {mayChange && (
            <button className="quiet" onClick={() => setChanging(p)}>
              change
            </button>
          )}
          {mayChange && (
            <button className="quiet" onClick={() => setLeaving(p)}>
              remove
            </button>
          )}
        </div>
      ))}
      <div className="mt-8 flex flex-wrap items-baseline gap-3 border-b border-ink">
        <h2 className="head">Tokens of programs</h2>
        {mayChange && (
          <button className="quiet ml-auto" onClick={() => setMaking(true)}>
            make a token
          </button>
        )}
      </div>
      {(tokens.data ?? []).map((t) => (
        <p key={t.name} className="flex flex-wrap gap-x-4 border-b border-rule py-1.5 text-sm">
          <span className="font-semibold">{t.name}</span>
          <span>{t.person ? `as ${t.person}` : "as an administrator"}</span>
          <span className="text-faint">since {stamp(t.made)}</span>
          {t.until && (
            <span className={t.ended ? "text-hand" : "text-faint"}>
              {t.ended ? "ended" : "ends"} {stamp(t.until)}
            </span>
          )}
          {mayChange && (
            <button className="quiet ml-auto" aria-label={`End the token ${t.name}`} onClick={() => setEnding(t.name)}>
              {t.ended ? "remove" : "end"}
            </button>
          )}
        </p>
      ))}
      {(tokens.data ?? []).length === 0 && <p className="py-2 text-sm text-faint">None.</p>}
      <ByCommand
        lines={[
          "candid person add NAME --role operator",
          "candid person change NAME --role operator --password",
          "candid person grant NAME VOLUME PATH",
          "candid token add NAME --person PERSON --until +90d",
        ]}
      />
      {adding && (
        <Add
          close={() => {
            setAdding(false);
            again();
          }}
        />
      )}
      {making && (
        <MakeToken
          people={all}
          close={() => {
            setMaking(false);
            again();
          }}
        />
      )}
      {granting && (
        <Grant
          person={granting}
          close={() => {
            setGranting(null);
            again();
          }}
        />
      )}
      {changing && (
        <Change
          person={changing}
          close={() => {
            setChanging(null);
            again();
          }}
        />
      )}
      <Sheet title={`End the token ${ending}`} open={!!ending} close={() => setEnding("")}>
        <p className="my-3 text-sm">
          Whatever shows it is let in no more, from the next request on. If it is the one that you are signed in with,
          that is you.
        </p>
        <Trouble error={endToken.error} />
        <div className="flex gap-3">
          <button className="press press-hand" onClick={() => endToken.mutate(ending)} disabled={endToken.isPending}>
            End it
          </button>
          <button className="quiet" onClick={() => setEnding("")}>
            Not now
          </button>
        </div>
      </Sheet>
      <Sheet title={`Remove ${leaving?.name ?? ""}`} open={!!leaving} close={() => setLeaving(null)}>
        <p className="my-3 text-sm">
          {leaving?.name} is signed out everywhere and let in no more; the tokens of that person end too. What was done
          stays in the ledger.
        </p>
        <Trouble error={remove.error} />
        <div className="flex gap-3">
          <button
            className="press press-hand"
            onClick={() => leaving && remove.mutate(leaving.name)}
            disabled={remove.isPending}
          >
            Remove
          </button>
          <button className="quiet" onClick={() => setLeaving(null)}>
            Not now
          </button>
        </div>
      </Sheet>
    </>
  );
}

function Add({ close }: { close: () => void }) {
  const [name, setName] = useState("");
  const [role, setRole] = useState<Role>("operator");
  const [password, setPassword] = useState("");
  const [ids, setIds] = useState("");
  const numbers = ids
    .split(/[\s,:]+/)
    .filter(Boolean)
    .map(Number);
  const add = useMutation({
    mutationFn: () =>
      told(
        api.POST("/people", {
          body: {
            name,
            role,
            password,
            ...(role === "file owner" && numbers.length ? { uid: numbers[0], gids: numbers.slice(1) } : {}),
          },
          headers: once(),
        }),
      ),
    onSuccess: close,
  });
  return (
    <Sheet title="Let someone sign in" open close={close}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          add.mutate();
        }}
      >
        <Field label="Name">
          <input
            className="field w-full"
            value={name}
            onChange={(e) => setName(e.target.value)}
            autoComplete="off"
            required
          />
        </Field>
        <ChooseField
          label="Role"
          value={role}
          options={roles.map(([r, what]) => ({ value: r, label: `${r}: ${what}` }))}
          choose={setRole}
        />
        {role === "file owner" && (
          <Field
            label="User and groups on the files"
            help="As numbers, the user first: 1004 100. Empty: the user of that name on this site's host."
          >
            <input className="field w-full font-mono" value={ids} onChange={(e) => setIds(e.target.value)} />
          </Field>
        )}
        <Field label="Password" help="At least 10 characters. The person can change it.">
          <input
            type="password"
            className="field w-full"
            value={password}
            onChange={(e) => setPassword(e.target.value)}
            autoComplete="new-password"
            minLength={10}
            required
          />
        </Field>
        <Trouble error={add.error} />
        <div className="mt-3 flex gap-3">
          <button className="press" disabled={add.isPending}>
            Let in
          </button>
          <button type="button" className="quiet" onClick={close}>
            Not now
          </button>
        </div>
      </form>
    </Sheet>
  );
}

const lasts: [number, string][] = [
  [30, "in 30 days"],
  [90, "in 90 days"],
  [365, "in a year"],
  [0, "when it is removed"],
];

function MakeToken({ people, close }: { people: Person[]; close: () => void }) {
  const [name, setName] = useState("");
  const [person, setPerson] = useState("");
  const [days, setDays] = useState(90);
  const make = useMutation({
    mutationFn: async () => {
      const me = await told(api.GET("/me")); // the site's clock counts
      const until = days ? new Date(Date.parse(me.now) + days * 86_400_000).toISOString() : undefined;
      return told(
        api.POST("/tokens", {
          body: { name, ...(person ? { person } : {}), ...(until ? { until } : {}) },
          headers: once(),
        }),
      );
    },
  });
  if (make.data) {
    return (
      <Sheet title={`The token ${make.data.name}`} open close={close}>
        <p className="my-3 text-sm">
          Copy it now: it is not shown again. Programs send it as <code>Authorization: Bearer</code>, or as the password
          of any name.
        </p>
        <p className="my-3 border border-rule p-2 font-mono text-sm break-all select-all">{make.data.text}</p>
        <button className="press" onClick={close}>
          Done
        </button>
      </Sheet>
    );
  }
  return (
    <Sheet title="Make a token" open close={close}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          make.mutate();
        }}
      >
        <Field label="Name" help="The ledger tells by it which program did what.">
          <input
            className="field w-full"
            value={name}
            onChange={(e) => setName(e.target.value)}
            autoComplete="off"
            required
          />
        </Field>
        <ChooseField
          label="It may do what"
          value={person}
          options={[
            { value: "", label: "administrators may" },
            ...people.map((p) => ({ value: p.name, label: `${p.name} may, ${p.role}` })),
          ]}
          choose={setPerson}
        />
        <ChooseField
          label="It ends"
          value={String(days)}
          options={lasts.map(([n, what]) => ({ value: String(n), label: what }))}
          choose={(v) => setDays(Number(v))}
        />
        <Trouble error={make.error} />
        <div className="mt-3 flex gap-3">
          <button className="press" disabled={make.isPending || !name}>
            Make it
          </button>
          <button type="button" className="quiet" onClick={close}>
            Not now
          </button>
        </div>
      </form>
    </Sheet>
  );
}

function Change({ person, close }: { person: Person; close: () => void }) {
  const [role, setRole] = useState<Role>(person.role);
  const [password, setPassword] = useState("");
  const [ids, setIds] = useState("");
  const numbers = ids
    .split(/[\s,:]+/)
    .filter(Boolean)
    .map(Number);
  const change = useMutation({
    mutationFn: () =>
      told(
        api.PATCH("/people/{name}", {
          params: { path: { name: person.name } },
          body: {
            ...(role !== person.role ? { role } : {}),
            ...(password ? { password } : {}),
            ...(role === "file owner" && numbers.length ? { uid: numbers[0], gids: numbers.slice(1) } : {}),
          },
          headers: once(),
        }),
      ),
    onSuccess: close,
  });
  return (
    <Sheet title={`Change ${person.name}`} open close={close}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          change.mutate();
        }}
      >
        <ChooseField
          label="Role"
          value={role}
          options={roles.map(([r, what]) => ({ value: r, label: `${r}: ${what}` }))}
          choose={setRole}
        />
        {role === "file owner" && (
          <Field
            label="User and groups on the files"
            help={
              person.uid === undefined
                ? "As numbers, the user first: 1004 100. Empty: the user of that name on this site's host."
                : `As numbers, the user first. Empty: as now, ${person.uid} in ${(person.gids ?? []).join(", ")}.`
            }
          >
            <input className="field w-full font-mono" value={ids} onChange={(e) => setIds(e.target.value)} />
          </Field>
        )}
        <Field
          label="New password"
          help="At least 10 characters; empty: as it is. A new role or password signs the person out everywhere."
        >
          <input
            type="password"
            className="field w-full"
            value={password}
            onChange={(e) => setPassword(e.target.value)}
            autoComplete="new-password"
            minLength={10}
          />
        </Field>
        <Trouble error={change.error} />
        <div className="mt-3 flex gap-3">
          <button
            className="press"
            disabled={change.isPending || (role === person.role && !password && numbers.length === 0)}
          >
            Change
          </button>
          <button type="button" className="quiet" onClick={close}>
            Not now
          </button>
        </div>
      </form>
    </Sheet>
  );
}

function Grant({ person, close }: { person: Person; close: () => void }) {
  const volumes = useQuery({ queryKey: ["volumes"], queryFn: () => told(api.GET("/volumes")) });
  const [volume, setVolume] = useState("");
  const [path, setPath] = useState("");
  const chosen = volume || volumes.data?.[0]?.name || "";
  const grant = useMutation({
    mutationFn: () =>
      told(
        api.POST("/people/{name}/folders", {
          params: { path: { name: person.name } },
          body: { volume: chosen, paths: [path] },
          headers: once(),
        }),
      ),
    onSuccess: close,
  });
  return (
    <Sheet title={`What ${person.name} may see`} open close={close}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          grant.mutate();
        }}
      >
        <Field label="Volume">
          <Pick label="Volume" value={chosen} names={(volumes.data ?? []).map((v) => v.name)} pick={setVolume} />
        </Field>
        <Field
          label="Folder"
          help={
            "From the volume's top; empty for all of it. " +
            "There the recorded owner, mode and access list decide, as for that user on the files."
          }
        >
          <input className="field w-full font-mono" value={path} onChange={(e) => setPath(e.target.value)} />
        </Field>
        <Trouble error={grant.error ?? volumes.error} />
        <div className="mt-3 flex gap-3">
          <button className="press" disabled={grant.isPending || !chosen}>
            Grant
          </button>
          <button type="button" className="quiet" onClick={close}>
            Not now
          </button>
        </div>
      </form>
    </Sheet>
  );
}
