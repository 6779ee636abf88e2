import { small } from "./styles";

// A table with room, that scrolls by itself where it is wider than the page. A head is its label, or more.
export function Table({ heads, children }: { heads: (string | { label: React.ReactNode; sort?: "ascending" | "descending" | "none"; className?: string })[]; children: React.ReactNode }) {
  return (
    <div className="overflow-x-auto">
      <table className="w-full border-collapse text-left">
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
export function Pager({ offset, shown, total, onMove }: { offset: number; shown: number; total: number; onMove: (offset: number) => void }) {
  if (total <= shown && offset === 0) return null;
  return (
    <div className="mt-4 flex items-center gap-3 text-sm text-soft">
      <button type="button" className={small} disabled={offset === 0} onClick={() => onMove(Math.max(0, offset - 50))}>
        Before
      </button>
      <span>
        {(offset + 1).toLocaleString()} to {(offset + shown).toLocaleString()} of {total.toLocaleString()}
      </span>
      <button type="button" className={small} disabled={offset + shown >= total} onClick={() => onMove(offset + 50)}>
        After
      </button>
    </div>
  );
}
