import { useWindowVirtualizer } from "@tanstack/react-virtual";
import { memo, type ReactNode, useCallback, useLayoutEffect, useMemo, useRef, useState } from "react";
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
  const turn = useCallback(
    (key: string) => {
      const next = new Set(chosen);
      if (!next.delete(key)) next.add(key);
      choose(next);
    },
    [chosen, choose],
  );
  const all = useMemo(() => rows.every((r) => chosen.has(keyOf(r))), [rows, chosen, keyOf]);
  const line = (r: T) => ({ row: r, id: keyOf(r), name: nameOf(r), chosen: chosen.has(keyOf(r)), turn, cells });
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
                checked={all}
                onChange={(e) => choose(new Set(e.target.checked ? rows.map(keyOf) : []))}
              />
            </th>
            {head}
          </tr>
        </thead>
        <tbody>
          {!many && rows.map((r) => <Row key={keyOf(r)} {...line(r)} />)}
          {many && before > 0 && <tr aria-hidden style={{ height: before }} />}
          {seen.map((item) => (
            <Row key={item.key} measure={lines.measureElement} index={item.index} {...line(rows[item.index])} />
          ))}
          {many && after > 0 && <tr aria-hidden style={{ height: after }} />}
        </tbody>
      </table>
    </Wide>
  );
}

type RowProps<T> = {
  row: T;
  id: string;
  name: string;
  chosen: boolean;
  turn: (key: string) => void;
  cells: (row: T) => ReactNode;
  measure?: (node: Element | null) => void;
  index?: number;
};

/** A row; drawn anew only if it changes, not when the table is scrolled. */
const Row = memo(function Row<T>({ row, id, name, chosen, turn, cells, measure, index }: RowProps<T>) {
  return (
    <tr ref={measure} data-index={index} aria-rowindex={index === undefined ? undefined : index + 2}>
      <td>
        <input type="checkbox" aria-label={`Choose ${name}`} checked={chosen} onChange={() => turn(id)} />
      </td>
      {cells(row)}
    </tr>
  );
}) as <T>(props: RowProps<T>) => ReactNode;
