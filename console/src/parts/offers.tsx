import { useQuery } from "@tanstack/react-query";
import { type RefObject, useState } from "react";
import { flushSync } from "react-dom";

import { complete, type Schema, type Suggestion } from "./complete";

/** What may be written at the cursor of a policy, from its published schema. */
export function useOffers(text: string, change: (text: string) => void, area: RefObject<HTMLTextAreaElement | null>) {
  const schema = useQuery({
    queryKey: ["schema"],
    staleTime: Infinity,
    queryFn: async () => (await fetch("/api/v1/policies/schema")).json() as Promise<Schema>,
  });
  const [cursor, setCursor] = useState<number | null>(null);
  const [open, setOpen] = useState(false);
  const [active, setActive] = useState(0);
  const offers = cursor === null || !schema.data ? [] : complete(text, cursor, schema.data).slice(0, 12);
  const take = (s: Suggestion) => {
    const at = s.from + s.insert.length;
    // At once: what is typed next must not find the cursor moved in between.
    flushSync(() => {
      change(text.slice(0, s.from) + s.insert + text.slice(cursor ?? s.from));
      setOpen(false);
      setCursor(at);
    });
    area.current?.focus();
    area.current?.setSelectionRange(at, at);
  };
  const moved = () => {
    const a = area.current;
    setCursor(a && a.selectionStart === a.selectionEnd ? a.selectionStart : null);
  };
  const key = (e: React.KeyboardEvent) => {
    if (e.key === " " && e.ctrlKey) {
      e.preventDefault();
      moved();
      setActive(0);
      setOpen(true);
      return;
    }
    if (!open || offers.length === 0) return;
    if (e.key === "Escape") setOpen(false);
    else if (e.key === "ArrowDown" || e.key === "ArrowUp")
      setActive((n) => (n + (e.key === "ArrowDown" ? 1 : offers.length - 1)) % offers.length);
    else if (e.key === "Enter") take(offers[Math.min(active, offers.length - 1)]);
    else return;
    e.preventDefault();
  };
  const list = (
    <div className="min-h-8 pt-1 text-sm" data-offers>
      {offers.length === 0 ? (
        <span className="text-xs text-faint">Ctrl and Space at the cursor: what may be written there.</span>
      ) : (
        <>
          <span className="mr-2 text-faint">Here one may write</span>
          <ul aria-label="What may be written here" className="inline">
            {offers.map((o, i) => (
              <li key={o.label} className="mr-3 inline-block">
                <button
                  type="button"
                  aria-current={open && i === active}
                  title={o.help}
                  className={
                    "cursor-pointer font-mono text-[13px] " +
                    (open && i === active ? "bg-ink text-paper px-1" : "border-b border-rule")
                  }
                  onMouseDown={(e) => e.preventDefault()}
                  onClick={() => take(o)}
                >
                  {o.label}
                </button>
              </li>
            ))}
          </ul>
          {open && offers[active]?.help && <p className="text-xs text-faint">{offers[active].help}</p>}
        </>
      )}
    </div>
  );
  return { list, key, moved };
}
