import { useState } from "react";
import { Link } from "react-router";

const shown = 4; // a sentence names as many by itself
const step = 300; // of more, so many are listed at a time

/** All volumes that a sentence is about, where it names only the first. */
export function Named({ volumes }: { volumes: string[] | null | undefined }) {
  const [most, setMost] = useState(0);
  if (!volumes || volumes.length <= shown) return null;
  return (
    <details
      className="w-full pl-4 font-text text-sm"
      onToggle={(e) => setMost((m) => (e.currentTarget.open ? Math.max(m, step) : m))}
    >
      <summary className="quiet inline-block cursor-pointer py-1">all {volumes.length}</summary>
      <ul className="flex max-h-60 flex-wrap gap-x-4 overflow-y-auto">
        {volumes.slice(0, most).map((v) => (
          <li key={v}>
            <Link className="quiet inline-block py-1" to={`/volumes/${encodeURIComponent(v)}`}>
              {v}
            </Link>
          </li>
        ))}
        {volumes.length > most && (
          <li>
            <button className="quiet py-1" onClick={() => setMost((m) => m + step)}>
              and {volumes.length - most} more
            </button>
          </li>
        )}
      </ul>
    </details>
  );
}
