import { Link } from "react-router";

const shown = 4; // a sentence names as many by itself

/** All volumes that a sentence is about, where it names only the first. */
export function Named({ volumes }: { volumes: string[] | null | undefined }) {
  if (!volumes || volumes.length <= shown) return null;
  return (
    <details className="w-full pl-4 font-text text-sm">
      <summary className="quiet inline-block cursor-pointer py-1">all {volumes.length}</summary>
      <ul className="flex max-h-60 flex-wrap gap-x-4 overflow-y-auto">
        {volumes.map((v) => (
          <li key={v}>
            <Link className="quiet inline-block py-1" to={`/volumes/${encodeURIComponent(v)}`}>
              {v}
            </Link>
          </li>
        ))}
      </ul>
    </details>
  );
}
