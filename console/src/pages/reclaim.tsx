import { useQuery } from "@tanstack/react-query";
import { useState } from "react";

import { api, told } from "../api/client";
import { Trouble, Waiting } from "../parts/ui";
import { stamp } from "../parts/times";
import { exact, size } from "../parts/words";

/** What one volume's snapshots take, when that comes back, and what removing some would give. */
export function VolumeSpace({ volume }: { volume: string }) {
  const [picked, setPicked] = useState<string[]>([]);
  const space = useQuery({
    queryKey: ["space", volume],
    queryFn: () => told(api.GET("/volumes/{name}/space", { params: { path: { name: volume } } })),
  });
  const list = useQuery({
    queryKey: ["snapshots", volume, 200],
    queryFn: () =>
      told(api.GET("/volumes/{name}/snapshots", { params: { path: { name: volume }, query: { limit: 200 } } })),
  });
  const free = useQuery({
    queryKey: ["freeing", picked],
    enabled: picked.length > 0,
    queryFn: () => told(api.POST("/snapshots/freeing", { body: { ids: picked } })),
    placeholderData: (old) => old,
  });
  if (space.isPending) return <Waiting what={`the space of ${volume}`} />;
  if (space.error) return <Trouble error={space.error} />;
  const s = space.data;
  const most = Math.max(1, s.unique);
  const items = list.data?.items ?? [];
  return (
    <div className="grid grid-cols-1 gap-x-10 md:grid-cols-2">
      <div>
        {(s.sentences ?? []).map((t) => (
          <p key={t} className="my-1.5 text-sm">
            {t}
          </p>
        ))}
        <table className="plain mt-3">
          <caption className="pb-1 text-left text-sm font-semibold">Comes back by itself, as the rules are</caption>
          <tbody>
            {(s.returns ?? []).map((r) => (
              <tr key={r.days}>
                <td className="whitespace-nowrap">within {r.days === 1 ? "a day" : `${r.days} days`}</td>
                <td className="whitespace-nowrap text-faint">{r.snapshots} go</td>
                <td className="w-1/2">
                  <svg width="100%" height="12" aria-hidden>
                    <rect width={`${(100 * r.bytes) / most}%`} height="11" y="0.5" fill="var(--ink)" />
                  </svg>
                </td>
                <td className="text-right whitespace-nowrap" title={exact(r.bytes)}>
                  {size(r.bytes)}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <div>
        <p className="text-sm font-semibold">What would come back if these went?</p>
        <p className="my-1 min-h-10 font-say" aria-live="polite">
          {picked.length === 0
            ? "Pick snapshots below. Nothing is removed by that."
            : (free.data?.sentence ?? "Reckoning …")}
        </p>
        <Trouble error={free.error ?? list.error} />
        <div className="max-h-64 overflow-y-auto border-t border-ink">
          <table className="plain">
            <tbody>
              {items.map((i) => (
                <tr key={i.id}>
                  <td className="w-6">
                    <input
                      type="checkbox"
                      aria-label={`Count ${stamp(i.taken)}`}
                      checked={picked.includes(i.id)}
                      onChange={() => setPicked((p) => (p.includes(i.id) ? p.filter((x) => x !== i.id) : [...p, i.id]))}
                    />
                  </td>
                  <td className="font-mono whitespace-nowrap">{stamp(i.taken)}</td>
                  <td className="text-faint">{i.state === "kept" ? (i.reasons ?? [])[0] : i.letGo}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
        <p className="mt-1 flex gap-4 text-sm">
          <button className="quiet" onClick={() => setPicked(items.filter((i) => i.state !== "kept").map((i) => i.id))}>
            those in grace
          </button>
          <button className="quiet" onClick={() => setPicked(items.map((i) => i.id))}>
            all
          </button>
          <button className="quiet" onClick={() => setPicked([])}>
            none
          </button>
        </p>
      </div>
    </div>
  );
}
