import { useLayoutEffect, useRef } from "react";
import { small } from "./styles";

// A table with room, that scrolls by itself where it is wider than the page. A head is its label, or more. On a phone it is
// a list: each row a paragraph, each cell a line with the label of its column.
export function Table({
  heads,
  children,
}: {
  heads: (string | { label: React.ReactNode; sort?: "ascending" | "descending" | "none"; className?: string })[];
  children: React.ReactNode;
}) {
  const table = useRef<HTMLTableElement>(null);
  useLayoutEffect(() => {
    const labels = [...(table.current?.tHead?.rows[0]?.cells ?? [])].map((cell) =>
      cell.querySelector(".sr-only") ? "" : (cell.textContent ?? "").replace(/[↑↓]/g, "").trim(),
    );
    for (const row of table.current?.tBodies[0]?.rows ?? [])
      if (row.cells.length === labels.length)
        [...row.cells].forEach((cell, i) => {
          cell.dataset.label = i === 0 ? "" : labels[i];
          cell.toggleAttribute("data-empty", !cell.textContent?.trim() && !cell.querySelector("button, input, svg"));
        });
  });
  return (
    <div className="overflow-x-auto">
      <table ref={table} className="stacked w-full border-collapse text-left">
        <thead className="text-sm text-soft">
          <tr className="border-b border-line">
            {heads.map((head, i) => {
              const { label, sort, className = "" } = typeof head === "string" ? { label: head } : head;
              return (
                <th key={i} className={`py-2 pr-6 font-normal whitespace-nowrap ${className}`} aria-sort={sort}>
                  {label}
                </th>
              );
            })}
          </tr>
        </thead>
        <tbody>{children}</tbody>
      </table>
    </div>
  );
}

// A row of a Table.
export const row = "border-b border-line align-top hover:bg-hover";

// Which part of a long list is shown, and the way to the next.
// A list in parts. Of very long ones no more than counted are counted: there may be more.
export function Pager({
  offset,
  shown,
  total,
  counted = Infinity,
  onMove,
}: {
  offset: number;
  shown: number;
  total: number;
  counted?: number;
  onMove: (offset: number) => void;
}) {
  const more = total >= counted && shown === 50;
  if (total <= shown && offset === 0) return null;
  return (
    <div className="mt-4 flex items-center gap-3 text-sm text-soft">
      <button type="button" className={small} disabled={offset === 0} onClick={() => onMove(Math.max(0, offset - 50))}>
        Before
      </button>
      <span>
        {(offset + 1).toLocaleString()} to {(offset + shown).toLocaleString()} of{" "}
        {more ? `${Math.max(total, offset + shown).toLocaleString()} or more` : total.toLocaleString()}
      </span>
      <button type="button" className={small} disabled={offset + shown >= total && !more} onClick={() => onMove(offset + 50)}>
        After
      </button>
    </div>
  );
}
