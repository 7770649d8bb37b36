import { Popover, PopoverButton, PopoverPanel, useClose } from "@headlessui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { NavLink, useLocation } from "react-router";

import type { Schemas } from "../api/client";
import { OwnPassword } from "./password";
import { ShownTimes } from "./showntimes";

/** The pages, by what a person wants of them. */
const groups: [string, [string, string][]][] = [
  [
    "How it stands",
    [
      ["/", "Today"],
      ["/runs", "Runs"],
      ["/alarms", "Alarms"],
      ["/objectives", "Objectives"],
    ],
  ],
  [
    "Protect",
    [
      ["/volumes", "Volumes"],
      ["/snapshots", "Snapshots"],
      ["/policies", "Policies"],
      ["/sites", "Sites"],
      ["/space", "Space"],
    ],
  ],
  ["Bring back", [["/recovery", "Recovery"]]],
  [
    "Set up",
    [
      ["/ledger", "Ledger"],
      ["/people", "People"],
    ],
  ],
];

type Pages = typeof groups;

/** The pages that a role may see; somebody without a desk has none to choose from. */
function pagesOf(role: string): Pages {
  if (role === "file owner") return [];
  const hidden = role === "operator" ? ["/people", "/ledger"] : [];
  return groups
    .map(([name, pages]): Pages[number] => [name, pages.filter(([to]) => !hidden.includes(to))])
    .filter(([, pages]) => pages.length > 0);
}

export function Masthead({ me }: { me: Schemas["Me"] }) {
  const { pathname, search } = useLocation();
  const queries = useQueryClient();
  const out = useMutation({
    mutationFn: () => fetch("/api/v1/session", { method: "DELETE" }),
    onSuccess: () => queries.resetQueries(),
  });
  const pages = pagesOf(me.role);
  const at = new URLSearchParams(search).get("at");
  const keep = at ? `?at=${encodeURIComponent(at)}` : "";
  const here = pages.flatMap(([, list]) => list).find(([to]) => to === pathname)?.[1] ?? "Pages";
  return (
    <header className="border-b border-ink print:hidden">
      <div className="mx-auto flex max-w-[1240px] flex-wrap items-baseline gap-x-6 px-4 py-3 sm:px-6">
        <span className="font-say text-2xl font-semibold capitalize">{me.site}</span>
        {pages.length > 0 && (
          <>
            <nav aria-label="Pages" className="hidden xl:flex xl:items-baseline">
              {pages.map(([name, list], i) => (
                <ul
                  key={name}
                  aria-label={name}
                  className={`flex gap-x-3.5 ${i > 0 ? "ml-3.5 border-l border-rule pl-3.5" : ""}`}
                >
                  {list.map(([to, label]) => (
                    <li key={to}>
                      <PageLink to={to} keep={keep}>
                        {label}
                      </PageLink>
                    </li>
                  ))}
                </ul>
              ))}
            </nav>
            <Popover className="relative xl:hidden">
              <PopoverButton className="press">
                {here} <span aria-hidden>▾</span>
              </PopoverButton>
              <PopoverPanel className="absolute left-0 z-30 mt-1 w-64 border border-ink bg-paper p-3">
                <Narrow pages={pages} keep={keep} />
              </PopoverPanel>
            </Popover>
          </>
        )}
        <span className="ml-auto flex gap-4 text-sm text-faint">
          <ShownTimes times={me.times} />
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

/** All pages under their headings, for windows without room for a line of them. */
function Narrow({ pages, keep }: { pages: Pages; keep: string }) {
  const close = useClose();
  return (
    <nav aria-label="Pages" className="grid grid-cols-2 gap-3">
      {pages.map(([name, list]) => (
        <section key={name} aria-label={name}>
          <h2 className="text-xs text-faint">{name}</h2>
          <ul>
            {list.map(([to, label]) => (
              <li key={to}>
                <PageLink to={to} keep={keep} chosen={() => close()}>
                  <span className="inline-block py-1">{label}</span>
                </PageLink>
              </li>
            ))}
          </ul>
        </section>
      ))}
    </nav>
  );
}

function PageLink(p: { to: string; keep: string; chosen?: () => void; children: ReactNode }) {
  return (
    <NavLink
      to={p.to + p.keep}
      end={p.to === "/"}
      onClick={p.chosen}
      className={({ isActive }) => (isActive ? "font-semibold border-b-2 border-ink" : "quiet")}
    >
      {p.children}
    </NavLink>
  );
}
