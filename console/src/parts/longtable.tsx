import { useWindowVirtualizer } from "@tanstack/react-virtual";
import { type ReactNode, useLayoutEffect, useRef, useState } from "react";
import { Wide } from "./wide";

const FEW = 100; // as many are drawn all, so that the browser's own search finds them

/** A table that draws only the rows in sight, once there are many. */
export function LongTable<T>({
  rows,
  keyOf,
  head,
  cells,
}: {
  rows: T[];
  keyOf: (row: T) => string;
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
  const seen = lines.getVirtualItems();
  const before = (seen[0]?.start ?? top) - top;
  const after = lines.getTotalSize() - ((seen.at(-1)?.end ?? top) - top);
  return (
    <Wide label="Table">
      <table ref={box} className="plain stack" aria-rowcount={rows.length + 1}>
        <thead>
          <tr aria-rowindex={1}>{head}</tr>
        </thead>
        <tbody>
          {!many && rows.map((r) => <tr key={keyOf(r)}>{cells(r)}</tr>)}
          {many && before > 0 && <tr aria-hidden style={{ height: before }} />}
          {seen.map((line) => (
            <tr key={line.key} ref={lines.measureElement} data-index={line.index} aria-rowindex={line.index + 2}>
              {cells(rows[line.index])}
            </tr>
          ))}
          {many && after > 0 && <tr aria-hidden style={{ height: after }} />}
        </tbody>
      </table>
    </Wide>
  );
}
