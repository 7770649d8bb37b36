import { useInfiniteQuery, useMutation } from "@tanstack/react-query";
import { useSearchParams } from "react-router";

import { api, once, told } from "../api/client";
import { ByCommand, Trouble, Waiting } from "../parts/ui";
import { stamp } from "../parts/times";
import { ago } from "../parts/words";
import { Wide } from "../parts/wide";

/** Who did what, and whether the record of it is whole. */
export function Ledger() {
  const [params, setParams] = useSearchParams();
  const who = params.get("who") ?? "";
  const text = params.get("text") ?? "";
  const set = (key: string, value: string) =>
    setParams(
      (old) => {
        const n = new URLSearchParams(old);
        if (value) n.set(key, value);
        else n.delete(key);
        return n;
      },
      { replace: true },
    );
  const list = useInfiniteQuery({
    queryKey: ["ledger", who, text],
    queryFn: ({ pageParam }) =>
      told(api.GET("/ledger", { params: { query: { who, text, limit: 100, before: pageParam || undefined } } })),
    initialPageParam: 0,
    getNextPageParam: (last) => (last.next ? Number(last.next) : undefined),
  });
  const verify = useMutation({ mutationFn: () => told(api.POST("/ledger/verify", { headers: once() })) });
  const all = list.data?.pages.flatMap((p) => p.items ?? []) ?? [];
  return (
    <>
      <div className="my-5 flex flex-wrap items-baseline gap-x-4">
        <h1 className="head">Ledger</h1>
        <p className="font-say">
          Every act, before it is done. Entries are only added; each one's sum covers all before it.
        </p>
        <button className="press ml-auto" onClick={() => verify.mutate()} disabled={verify.isPending}>
          {verify.isPending ? "Going through it …" : "Verify it"}
        </button>
      </div>
      <Trouble error={list.error ?? verify.error} />
      {verify.data && (
        <section
          aria-live="polite"
          className={`my-3 border-l-4 bg-sheet px-3 py-2 ${verify.data.whole ? "border-ink" : "border-hand text-hand"}`}
        >
          <p className="font-say">{verify.data.sentence}</p>
          {(verify.data.witnesses ?? [])
            .filter((w) => w.silent)
            .map((w) => (
              <p key={w.site} className="text-sm text-faint">
                {w.site} does not tell what it saw: {w.silent}
              </p>
            ))}
          <p className="font-mono text-xs break-all text-faint">{verify.data.head}</p>
        </section>
      )}
      <form
        className="flex flex-wrap items-center gap-3 border-b border-ink py-2 text-sm"
        onSubmit={(e) => e.preventDefault()}
      >
        <label>
          who{" "}
          <input className="field" value={who} onChange={(e) => set("who", e.target.value)} placeholder="everyone" />
        </label>
        <label>
          about{" "}
          <input
            className="field"
            value={text}
            onChange={(e) => set("text", e.target.value)}
            placeholder="restore, or a volume"
          />
        </label>
      </form>
      {list.isPending && <Waiting what="the ledger" />}
      {all.length === 0 && !list.isPending && (
        <p className="py-3 text-sm text-faint">{who || text ? "Nothing like it." : "Nothing yet."}</p>
      )}
      {all.length > 0 && (
        <Wide label="Ledger">
          <table className="plain">
            <thead>
              <tr>
                <th scope="col" className="text-right!">
                  Entry
                </th>
                <th scope="col">At</th>
                <th scope="col">Who</th>
                <th scope="col">Act</th>
                <th scope="col" className="hidden sm:table-cell">
                  About
                </th>
              </tr>
            </thead>
            <tbody>
              {all.map((e) => (
                <tr key={e.n}>
                  <td className="text-right text-faint" title={e.sum}>
                    {e.n}
                  </td>
                  <td className="whitespace-nowrap" title={ago(e.at)}>
                    {stamp(e.at)}
                  </td>
                  <td>
                    <button className="quiet text-left" onClick={() => set("who", e.who)}>
                      {e.who}
                    </button>
                    <span className="block text-xs text-faint">
                      {e.role}
                      {e.via ? `, by ${e.via}` : ""}
                    </span>
                  </td>
                  <td>
                    {e.act}
                    {e.outcome && <span className="block text-xs text-hand">{e.outcome}</span>}
                  </td>
                  <td className="hidden max-w-xl font-mono text-xs break-all sm:table-cell">{e.about}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </Wide>
      )}
      {list.hasNextPage && (
        <button className="press mt-3" onClick={() => void list.fetchNextPage()} disabled={list.isFetchingNextPage}>
          Show older ones
        </button>
      )}
      <ByCommand lines={["candid ledger list --who NAME --text restore", "candid ledger verify"]} />
    </>
  );
}
