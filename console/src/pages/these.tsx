import { stamp } from "../parts/times";

/** The snapshots that an act is done with. */
export function These({ of }: { of: { id: string; taken: string; volume: string }[] }) {
  return (
    <ul className="my-2 max-h-48 overflow-y-auto text-sm" tabIndex={0} aria-label="Of these">
      {of.slice(0, 200).map((s) => (
        <li key={s.id}>
          <span className="font-mono">{stamp(s.taken)}</span> {s.volume}
        </li>
      ))}
      {of.length > 200 && <li>and {of.length - 200} more</li>}
    </ul>
  );
}
