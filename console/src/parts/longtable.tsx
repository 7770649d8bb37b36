import { useWindowVirtualizer } from "@tanstack/react-virtual";
import { type ReactNode, useLayoutEffect, useRef, useState } from "react";
import { Wide } from "./wide";

const FEW = 100; // as many are drawn all, so that the browser's own search finds them

/** A table whose rows are chosen, that draws only the rows in sight, once there are many. */
export function LongTable<T>({
  rows,
  keyOf,
  nameOf,
  chosen,
  choose,
  head,
  cells,
}: {
  rows: T[];
  keyOf: (row: T) => string;
  /** What a row is called where it is chosen. */
  nameOf: (row: T) => string;
  chosen: ReadonlySet<string>;
  choose: (keys: ReadonlySet<string>) => void;
  head: ReactNode;
  cells: (row: T) => ReactNode;
}) {
  const box = useRef<HTMLTableElement>(null);
  const [top, setTop] = useState(0);
  useLayoutEffect(() => setTop(box.current!.getBoundingClientRect().top + window.scrollY), [rows.length]);
  const many = rows.length > FEW;
  const lines = useWindowVirtualizer({
    count: many ? rows.length : 0,
    estimateSize: () => 30,
    getItemKey: (i) => keyOf(rows[i]),
    overscan: 12,
    scrollMargin: top,
  });
  const whole = (r: T) => (
    <>
      <td>
        <input
          type="checkbox"
          aria-label={`Choose ${nameOf(r)}`}
          checked={chosen.has(keyOf(r))}
          onChange={() => {
            const next = new Set(chosen);
            if (!next.delete(keyOf(r))) next.add(keyOf(r));
            choose(next);
          }}
        />
      </td>
      {cells(r)}
    </>
  );
  const seen = lines.getVirtualItems();
  const before = (seen[0]?.start ?? top) - top;
  const after = lines.getTotalSize() - ((seen.at(-1)?.end ?? top) - top);
  return (
    <Wide label="Table">
      <table ref={box} className="plain stack" aria-rowcount={rows.length + 1}>
        <thead>
          <tr aria-rowindex={1}>
            <th scope="col" className="w-8">
              <input
                type="checkbox"
                aria-label="Choose all that are shown"
                checked={rows.every((r) => chosen.has(keyOf(r)))}
                onChange={(e) => choose(new Set(e.target.checked ? rows.map(keyOf) : []))}
              />
            </th>
            {head}
          </tr>
        </thead>
        <tbody>
          {!many && rows.map((r) => <tr key={keyOf(r)}>{whole(r)}</tr>)}
          {many && before > 0 && <tr aria-hidden style={{ height: before }} />}
          {seen.map((line) => (
            <tr key={line.key} ref={lines.measureElement} data-index={line.index} aria-rowindex={line.index + 2}>
              {whole(rows[line.index])}
            </tr>
          ))}
          {many && after > 0 && <tr aria-hidden style={{ height: after }} />}
        </tbody>
      </table>
    </Wide>
  );
}
