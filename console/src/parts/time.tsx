import { createContext, type ReactNode, useCallback, useContext, useMemo, useState } from "react";
import { useSearchParams } from "react-router";

/** The stretch of time that every ruler shows, and the moment that all pages speak of. */
export type TimeState = {
  from: number;
  to: number;
  show: (from: number, to: number) => void;
  /** The chosen moment; undefined is the newest state. */
  moment?: number;
  choose: (at: number | undefined) => void;
};

const Time = createContext<TimeState | null>(null);

export const HOUR = 3600_000;
export const DAY = 24 * HOUR;
const LEAST = HOUR;
const MOST = 12 * 365 * DAY;

/** Keeps a stretch within what a ruler can show, around the same middle. */
export function clampView(from: number, to: number): [number, number] {
  const middle = (from + to) / 2;
  const half = Math.min(Math.max(to - from, LEAST), MOST) / 2;
  return [middle - half, middle + half];
}

export function TimeProvider({ children }: { children: ReactNode }) {
  const [[from, to], setView] = useState<[number, number]>(() => [Date.now() - 30 * DAY, Date.now() + 2 * DAY]);
  const [params, setParams] = useSearchParams();
  const at = params.get("at");
  const moment = at && Number.isFinite(Date.parse(at)) ? Date.parse(at) : undefined;
  const show = useCallback((f: number, t: number) => setView(clampView(f, t)), []);
  const choose = useCallback(
    (m: number | undefined) =>
      setParams(
        (old) => {
          const next = new URLSearchParams(old);
          if (m === undefined) next.delete("at");
          else next.set("at", new Date(Math.round(m / 1000) * 1000).toISOString());
          return next;
        },
        { replace: true },
      ),
    [setParams],
  );
  const value = useMemo(() => ({ from, to, show, moment, choose }), [from, to, show, moment, choose]);
  return <Time.Provider value={value}>{children}</Time.Provider>;
}

export function useTime(): TimeState {
  const t = useContext(Time);
  if (!t) throw new Error("useTime needs a TimeProvider");
  return t;
}
