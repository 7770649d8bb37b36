import { useQuery } from "@tanstack/react-query";

import { api, told } from "../api/client";
import { Waiting } from "./ui";

/** What a search waits for: the first one ever of a volume reads its names. */
export function NamesRead({ volume }: { volume?: string }) {
  const reading = useQuery({
    queryKey: ["names read"],
    queryFn: () => told(api.GET("/find/reading")),
    refetchInterval: 700,
    gcTime: 0,
  });
  const mine = (reading.data ?? []).filter((r) => !volume || r.volume === volume);
  if (mine.length === 0) return <Waiting what="all snapshots" />;
  return mine.map((r) => (
    <p key={r.volume} className="my-6 text-faint">
      <span role="status">Reading the names of {r.volume}, which later searches need not</span>
      {r.of > 0 && `: ${r.names.toLocaleString("en")} names, snapshot ${r.snapshot} of ${r.of}`} …
    </p>
  ));
}
