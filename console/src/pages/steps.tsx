import type { Schemas } from "../api/client";
import { State } from "../parts/ui";
import { span } from "../parts/words";

const columns = "grid grid-cols-[1rem_6rem_1fr] gap-x-3 sm:grid-cols-[1.5rem_8rem_1fr]";

/** How long something took: what is shorter than a second is not drawn out. */
export function took(s: number): string {
  return s < 1 ? "under 1 s" : span(s);
}

/** The steps of a failover or a drill, and how far it came. */
export function Steps({ of }: { of: Schemas["Failover"] }) {
  return (
    <ol className="my-4 border-t border-ink">
      {(of.steps ?? []).map((s, i) => (
        <li
          key={i}
          className={`${columns} border-b border-rule py-1.5 text-sm ${s.state === "to do" ? "text-faint" : ""}`}
        >
          <span className="text-right">{i + 1}</span>
          <State word={s.state} />
          <span className="min-w-0">
            <span className={s.state === "running" || s.state === "waiting" ? "font-semibold" : ""}>{s.text}</span>
            {s.began && <span className="ml-2 text-faint">{took(s.seconds ?? 0)}</span>}
            {s.said && <span className="block break-words text-faint">{s.said}</span>}
          </span>
        </li>
      ))}
    </ol>
  );
}
