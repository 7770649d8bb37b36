import { Tab, TabGroup, TabList, TabPanel, TabPanels } from "@headlessui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useMemo, useState } from "react";
import { Link, useSearchParams } from "react-router";

import { api, once, type Schemas, told } from "../api/client";
import { Described } from "../parts/described";
import { Choose } from "../parts/choose";
import type { Schema } from "../parts/complete";
import { Editor, type EditorMark } from "../parts/editor";
import { ByCommand, Trouble, Waiting } from "../parts/ui";
import { stamp } from "../parts/times";
import { size } from "../parts/words";
import { RemovePolicy } from "./removepolicy";
import { PolicyForm } from "./policyform";
import { History, type Horizon, Outlook, OutlookCharts } from "./preview";

export function Policies() {
  const list = useQuery({ queryKey: ["policies"], queryFn: () => told(api.GET("/policies")) });
  const examples = useQuery({
    queryKey: ["policies", "examples"],
    queryFn: () => told(api.GET("/policies/examples")),
  });
  const [params, setParams] = useSearchParams();
  if (list.isPending || examples.isPending) return <Waiting what="policies" />;
  if (list.error) return <Trouble error={list.error} />;
  const all = list.data ?? [];
  const name = params.get("policy") ?? all[0]?.name ?? "";
  const chosen = name === "+" ? undefined : all.find((p) => p.name === name);
  const example = (examples.data ?? []).find((e) => e.name === params.get("example")) ?? examples.data?.[0];
  const choose = (p: string) =>
    setParams((old) => {
      const n = new URLSearchParams(old);
      n.set("policy", p);
      return n;
    });
  return (
    <>
      <div className="my-5 flex flex-wrap items-baseline gap-x-5 gap-y-1">
        <h1 className="head">Policies</h1>
        {all.map((p) => (
          <button
            key={p.name}
            className={p.name === chosen?.name ? "border-b-2 border-ink font-semibold" : "quiet"}
            onClick={() => choose(p.name)}
          >
            {p.name}
          </button>
        ))}
        <button className={name === "+" ? "border-b-2 border-ink font-semibold" : "quiet"} onClick={() => choose("+")}>
          + a new one
        </button>
        {chosen && <Described key={`of ${chosen.name}`} kind="policy" name={chosen.name} text={chosen.description} />}
        {chosen && (
          <RemovePolicy
            key={chosen.name}
            policy={chosen}
            removed={() =>
              setParams((old) => {
                const n = new URLSearchParams(old);
                n.delete("policy");
                return n;
              })
            }
          />
        )}
      </div>
      {all.length === 0 && name !== "+" && (
        <p className="mb-3">No policies yet. Begin with an example: change it to your needs and store it.</p>
      )}
      {!chosen && (
        <p className="mb-3 flex flex-wrap items-baseline gap-x-3 gap-y-1 text-sm">
          Begin with
          <Choose
            label="Example"
            value={example?.name ?? ""}
            options={(examples.data ?? []).map((e) => ({ value: e.name, label: e.title }))}
            choose={(v) =>
              setParams((old) => {
                const n = new URLSearchParams(old);
                n.set("policy", "+");
                n.set("example", v);
                return n;
              })
            }
          />
        </p>
      )}
      <Document
        key={chosen ? chosen.name + chosen.version : `+${example?.name}`}
        policy={chosen}
        start={chosen?.body ?? example?.body ?? ""}
        stored={choose}
      />
      <ByCommand
        lines={[
          chosen ? `candid policy show ${chosen.name}` : "candid policy list",
          "candid policy diff FILE",
          "candid policy put FILE",
          "candid policy example",
          "candid policy calendar",
          ...(chosen ? [`candid policy preview ${chosen.name}`] : []),
        ]}
      />
    </>
  );
}

function Document({
  policy,
  start,
  stored,
}: {
  policy?: Schemas["Policy"];
  start: string;
  stored: (name: string) => void;
}) {
  const queries = useQueryClient();
  const [text, setText] = useState(start);
  const [settled, setSettled] = useState(start);
  const [params, setParams] = useSearchParams();
  const form = params.get("view") === "form";
  const view = (v: string) =>
    setParams(
      (old) => {
        const n = new URLSearchParams(old);
        if (v) n.set("view", v);
        else n.delete("view");
        return n;
      },
      { replace: true },
    );
  const routes = useQuery({ queryKey: ["routes"], queryFn: () => told(api.GET("/routes")) });
  const site = useQuery({ queryKey: ["site"], queryFn: () => told(api.GET("/site")) });
  const [horizon, look] = useState<Horizon>({ days: 90, fromNothing: false });
  const [at, setAt] = useState<{ line: number; column: number }>();
  const schema = useQuery({
    queryKey: ["schema"],
    staleTime: Infinity,
    queryFn: async () => (await fetch("/api/v1/policies/schema")).json() as Promise<Schema>,
  });
  useEffect(() => {
    const t = setTimeout(() => setSettled(text), 350);
    return () => clearTimeout(t);
  }, [text]);
  const check = useQuery({
    queryKey: ["check", settled],
    queryFn: () => told(api.POST("/policies/check", { body: { body: settled } })),
    placeholderData: (old) => old,
  });
  const problems = check.data?.problems ?? [];
  const letting = check.data?.letting ?? [];
  const hints = check.data?.hints ?? [];
  const places = [...new Set(letting.map((g) => g.place))];
  const marks = useMemo(
    (): EditorMark[] => [
      ...(check.data?.problems ?? []).map((p) => ({ ...p, wrong: true })),
      ...(check.data?.hints ?? []).filter((h) => h.line > 0).map((h) => ({ ...h, wrong: false })),
    ],
    [check.data],
  );
  const put = useMutation({
    mutationFn: () => told(api.PUT("/policies", { body: { body: text, accept: letting.length > 0 }, headers: once() })),
    onSuccess: (p) => {
      void queries.invalidateQueries();
      stored(p.name);
    },
  });
  return (
    <div className="grid grid-cols-1 gap-x-8 gap-y-4 lg:grid-cols-[minmax(0,1.15fr)_minmax(0,1fr)]">
      <div>
        <TabGroup selectedIndex={form ? 1 : 0} onChange={(i) => view(i === 1 ? "form" : "")}>
          <div className="mb-2 flex gap-5 text-sm">
            <TabList className="flex gap-5" aria-label="View of the document">
              {["Text", "Form"].map((name) => (
                <Tab
                  key={name}
                  className={({ selected }) => (selected ? "border-b-2 border-ink font-semibold" : "quiet")}
                >
                  {name}
                </Tab>
              ))}
            </TabList>
            <span className="text-faint">two views of one document</span>
          </div>
          <TabPanels>
            <TabPanel tabIndex={-1}>
              <Editor
                label="Policy document"
                text={text}
                change={setText}
                schema={schema.data}
                marks={marks}
                goTo={at}
              />
              <p className="pt-1 text-xs text-faint">
                What may be written is offered as you type; Ctrl and Space at the cursor asks for it.
              </p>
            </TabPanel>
            <TabPanel tabIndex={-1}>
              <PolicyForm
                text={text}
                change={setText}
                places={[
                  ...new Set(
                    [site.data?.name, ...(routes.data ?? []).map((r) => r.to)].filter((p): p is string => !!p),
                  ),
                ]}
              />
            </TabPanel>
          </TabPanels>
        </TabGroup>
        <div className="mt-3 flex flex-wrap items-baseline gap-3">
          <button
            className={`press ${letting.length ? "press-hand" : ""}`}
            disabled={problems.length > 0 || put.isPending || text === policy?.body || settled !== text}
            onClick={() => put.mutate()}
          >
            {letting.length ? `Store it and let ${letting.length} go` : "Store it"}
          </button>
          {policy && (
            <span className="text-sm text-faint">
              version {policy.version}, changed {stamp(policy.changed)} by {policy.changedBy}
            </span>
          )}
        </div>
        <Trouble error={put.error ?? check.error} />
        {policy && <History name={policy.name} load={setText} />}
        {check.data && problems.length === 0 && (
          <div className="mt-5">
            <OutlookCharts body={settled} horizon={horizon} />
          </div>
        )}
      </div>
      <section aria-label="What it does" aria-live="polite">
        {problems.length > 0 ? (
          <>
            <h2 className="head border-b border-ink">It cannot be used yet</h2>
            {problems.map((p) => (
              <button
                key={p.line + p.what}
                className="my-2 block w-full cursor-pointer border-l-4 border-hand pl-3 text-left text-sm"
                onClick={() => setAt({ line: p.line, column: p.column })}
              >
                {p.line > 0 && (
                  <strong>
                    Line {p.line}, column {p.column}:{" "}
                  </strong>
                )}
                {p.what}
              </button>
            ))}
          </>
        ) : (
          check.data && (
            <>
              <h2 className="head border-b border-ink">What it does</h2>
              <p className="my-2 text-sm">
                {(check.data.volumes ?? []).length ? (
                  <>
                    It chooses{" "}
                    {(check.data.volumes ?? []).map((v, i) => (
                      <span key={v}>
                        {i > 0 && ", "}
                        <Link className="quiet" to={`/volumes/${encodeURIComponent(v)}`}>
                          {v}
                        </Link>
                      </span>
                    ))}
                    .
                  </>
                ) : (
                  "It chooses no volume yet."
                )}
              </p>
              {policy && text === policy.body && (
                <>
                  <p className="my-2 text-sm">
                    {policy.paused
                      ? "It is paused: nothing is taken, and nothing expires."
                      : `Takes ${(policy.take ?? []).join("; ") || "nothing by itself"}.`}
                  </p>
                </>
              )}
              {hints.map((h) => (
                <button
                  key={h.line + h.what}
                  className="my-2 block w-full cursor-pointer border-l-4 border-now pl-3 text-left text-sm"
                  onClick={() => setAt({ line: h.line, column: h.column })}
                >
                  {h.line > 0 && <strong>Line {h.line}: </strong>}
                  {h.what}
                </button>
              ))}
              {(check.data.uncovered ?? []).length > 0 && (
                <p className="my-2 border-l-4 border-now pl-3 text-sm">
                  With it no policy chooses {check.data.uncovered!.slice(0, 8).join(", ")}
                  {check.data.uncovered!.length > 8 && ` and ${check.data.uncovered!.length - 8} more`}.
                </p>
              )}
              {letting.length === 0 ? (
                <p className="my-2 text-sm text-faint">Under it nothing expires that is kept now.</p>
              ) : (
                <>
                  <p className="my-3 border-l-4 border-hand pl-3 text-sm">
                    Under it snapshots expire that are kept now:{" "}
                    {places.map((p) => `${letting.filter((g) => g.place === p).length} at ${p}`).join(", ")}. After
                    grace and a sweep {size(check.data.bytes)} come back here.
                  </p>
                  <div className="max-h-72 overflow-y-auto">
                    <table className="plain">
                      <tbody>
                        {letting.map((g) => (
                          <tr key={g.place + g.id}>
                            <td className="font-mono whitespace-nowrap">{stamp(g.taken)}</td>
                            <td>{g.volume}</td>
                            <td>{g.place}</td>
                            <td className="text-faint">{g.why}</td>
                          </tr>
                        ))}
                      </tbody>
                    </table>
                  </div>
                </>
              )}
              <Outlook body={settled} horizon={horizon} look={look} />
            </>
          )
        )}
      </section>
    </div>
  );
}
