import { useMemo, useState } from "react";

import type { Volume } from "../api/client";
import { useAddress } from "./address";
import { Choose } from "./choose";
import { fold, foldsBy } from "./folds";
import { Ruler } from "./ruler";

const few = 24; // as many are drawn without folds

/** The ruler over the given volumes: what needs a hand first, the rest folded. */
export function FoldedRuler({ volumes }: { volumes: Volume[] }) {
  const [get, set] = useAddress();
  const [turned, setTurned] = useState<Set<string>>(new Set());
  const options = useMemo(() => foldsBy(volumes), [volumes]);
  const asked = get("fold");
  const by = options.includes(asked) ? asked : volumes.length > few ? "state" : "nothing";
  const folds = useMemo(() => fold(volumes, by), [volumes, by]);
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
  return (
    <>
      {volumes.length > 6 && (
        <p className="-mb-2 flex items-baseline gap-2 text-sm">
          Folded by
          <Choose label="Fold by" value={by} choose={choose} options={options.map((o) => ({ value: o, label: o }))} />
        </p>
      )}
      <Ruler folds={folds} turned={turned} turn={turn} />
    </>
  );
}
