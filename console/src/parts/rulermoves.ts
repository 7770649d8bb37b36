import { type KeyboardEvent, type PointerEvent, type RefObject, useEffect, useRef } from "react";

import { useTime } from "./time";

export function useWheel(box: RefObject<HTMLDivElement | null>, names: number, plot: number) {
  const time = useTime();
  useEffect(() => {
    const el = box.current!;
    const wheel = (e: WheelEvent) => {
      const upright = Math.abs(e.deltaX) <= Math.abs(e.deltaY);
      if (upright && !e.ctrlKey && !e.metaKey && !e.shiftKey) return; // the page scrolls
      e.preventDefault();
      const width = time.to - time.from;
      if (e.ctrlKey || e.metaKey) {
        const share = (e.clientX - el.getBoundingClientRect().left - names) / plot;
        const next = width * Math.exp(e.deltaY / 300);
        const pivot = time.from + share * width;
        time.show(pivot - share * next, pivot + (1 - share) * next);
      } else {
        const move = ((e.deltaX || e.deltaY) / plot) * width;
        time.show(time.from + move, time.to + move);
      }
    };
    el.addEventListener("wheel", wheel, { passive: false });
    return () => el.removeEventListener("wheel", wheel);
  });
}

/** Dragging moves the stretch; a press without a move chooses the moment. */
export function useDrag(plot: number, click: (x: number) => void) {
  const time = useTime();
  const start = useRef<{ x: number; from: number; to: number; moved: boolean } | null>(null);
  return {
    onPointerDown: (e: PointerEvent<HTMLDivElement>) => {
      start.current = { x: e.clientX, from: time.from, to: time.to, moved: false };
      e.currentTarget.setPointerCapture(e.pointerId);
    },
    onPointerMove: (e: PointerEvent<HTMLDivElement>) => {
      const s = start.current;
      if (!s) return;
      const dx = e.clientX - s.x;
      s.moved = s.moved || Math.abs(dx) > 4;
      if (s.moved) time.show(s.from - (dx / plot) * (s.to - s.from), s.to - (dx / plot) * (s.to - s.from));
    },
    onPointerUp: (e: PointerEvent<HTMLDivElement>) => {
      const s = start.current;
      start.current = null;
      const px = e.clientX - e.currentTarget.getBoundingClientRect().left;
      if (s && !s.moved) click(px);
    },
    onPointerCancel: () => {
      start.current = null; // the finger scrolls the page
    },
  };
}

export function moveByKey(e: KeyboardEvent, time: ReturnType<typeof useTime>, taken: () => number[]) {
  const width = time.to - time.from;
  const here = time.moment ?? Date.now();
  const go = (t: number | undefined) => {
    if (t === undefined) return;
    time.choose(t);
    if (t < time.from || t > time.to) time.show(t - width / 2, t + width / 2);
  };
  if (e.key === "ArrowLeft")
    go(
      taken()
        .filter((t) => t < here - 999)
        .at(-1),
    );
  else if (e.key === "ArrowRight") go(taken().find((t) => t > here + 999));
  else if (e.key === "End") time.choose(undefined);
  else if (e.key === "Home") go(taken()[0]);
  else if (e.key === "+" || e.key === "=") time.show(time.from + width / 4, time.to - width / 4);
  else if (e.key === "-") time.show(time.from - width / 2, time.to + width / 2);
  else return;
  e.preventDefault();
}
