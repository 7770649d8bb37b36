import { type ReactNode, useLayoutEffect, useRef, useState } from "react";

/** What may be wider than the window scrolls by itself, also by keyboard. */
export function Wide({ label, children }: { label: string; children: ReactNode }) {
  const box = useRef<HTMLDivElement>(null);
  const [over, setOver] = useState(false);
  useLayoutEffect(() => {
    const el = box.current!;
    const look = () => setOver(el.scrollWidth > el.clientWidth);
    const watch = new ResizeObserver(look);
    watch.observe(el);
    for (const child of el.children) watch.observe(child);
    look();
    return () => watch.disconnect();
  }, []);
  return (
    <div
      ref={box}
      className="overflow-x-auto"
      {...(over ? { tabIndex: 0, role: "group", "aria-label": `${label}, wider than the window` } : {})}
    >
      {children}
    </div>
  );
}
