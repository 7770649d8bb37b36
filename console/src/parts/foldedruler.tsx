import { useState } from "react";

import type { Today } from "../api/client";
import { useAddress } from "./address";
import { Choose } from "./choose";
import { Ruler } from "./ruler";

/** The ruler over all volumes: what needs a hand first, the rest folded. */
export function FoldedRuler({ today }: { today: Today }) {
  const [, set] = useAddress();
  const [turned, setTurned] = useState<Set<string>>(new Set());
  const turn = (key: string) =>
    setTurned((old) => {
      const next = new Set(old);
      if (!next.delete(key)) next.add(key);
      return next;
    });
  const choose = (v: string) => {
    setTurned(new Set());
    set("fold", v);
  };
  const options = today.bys ?? [];
  return (
    <>
      {today.volumes > 6 && (
        <p className="-mb-2 flex items-baseline gap-2 text-sm">
          Folded by
          <Choose
            label="Fold by"
            value={today.by}
            choose={choose}
            options={options.map((o) => ({ value: o, label: o }))}
          />
        </p>
      )}
      <Ruler folds={today.folds ?? []} turned={turned} turn={turn} />
    </>
  );
}
