import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";

import { api, once, told } from "../api/client";
import { Command, Trouble } from "../parts/ui";
import { word } from "../parts/words";

/** In which order other sites are asked for what is not here. */
export function Order() {
  const queries = useQueryClient();
  const order = useQuery({ queryKey: ["recovery-order"], queryFn: () => told(api.GET("/recovery/order")) });
  const set = useMutation({
    mutationFn: (sites: string[]) => told(api.PUT("/recovery/order", { body: { sites }, headers: once() })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["recovery-order"] }),
  });
  const sites = order.data?.sites ?? [];
  if (sites.length < 2) return <Trouble error={order.error} />;
  const sooner = (i: number) => {
    const next = [...sites];
    next.splice(i - 1, 0, ...next.splice(i, 1));
    set.mutate(next);
  };
  return (
    <section aria-labelledby="order">
      <h2 id="order" className="head mt-8 border-b border-ink">
        Who is asked first
      </h2>
      <p className="py-1 text-sm text-faint">What is not here is looked for at these sites, in this order.</p>
      <ol className="text-sm">
        {sites.map((s, i) => (
          <li key={s} className="flex items-baseline gap-3 border-b border-rule py-1">
            <span className="w-5">{i + 1}.</span>
            <span className="font-semibold">{s}</span>
            {i > 0 && (
              <button className="quiet" onClick={() => sooner(i)} disabled={set.isPending}>
                ask {s} sooner
              </button>
            )}
          </li>
        ))}
      </ol>
      <Trouble error={order.error ?? set.error} />
      <p className="mt-1">
        <Command text={`candid site order ${sites.map(word).join(" ")}`} />
      </p>
    </section>
  );
}
