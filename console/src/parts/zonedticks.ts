import { scaleUtc } from "d3-scale";

import { ofWall, wall } from "./times";

type Scale = { domain: () => Date[]; range: () => number[] };

/** Where a time axis has its marks, and what stands there: round on the clock of the zone that is shown. */
export function zonedTicks(x: Scale, count: number): { at: Date; label: string }[] {
  const [from, to] = x.domain();
  const u = scaleUtc([wall(from), wall(to)], x.range());
  const label = u.tickFormat(count);
  return u.ticks(count).map((t) => ({ at: ofWall(t.getTime()), label: label(t) }));
}
