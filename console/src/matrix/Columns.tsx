import { Popover, PopoverButton, PopoverPanel } from "@headlessui/react";
import { useMemo, useState } from "react";
import { columnVisibilityFeature, tableFeatures, useTable } from "@tanstack/react-table";
import { plain, small, field } from "../parts/styles";

const features = tableFeatures({ columnVisibilityFeature });
const nothing: object[] = [];

// Which visitors have a column: kept in this browser, for the site.
export function useColumns(visitors: string[], narrow: boolean) {
  const key = narrow ? "matrix-columns-narrow" : "matrix-columns";
  const [columnVisibility, setColumnVisibility] = useState<Record<string, boolean>>(() => read(key));
  // On a narrow screen there is room for the stranger, and one more.
  const visible = useMemo(
    () => Object.fromEntries(visitors.map((who, i) => [who, columnVisibility[who] ?? (!narrow || i < 2)])),
    [visitors, columnVisibility, narrow],
  );
  const columns = useMemo(() => visitors.map((who) => ({ id: who, header: who })), [visitors]);
  const table = useTable({
    features,
    data: nothing,
    columns,
    state: { columnVisibility: visible },
    onColumnVisibilityChange: (change) => {
      const next = typeof change === "function" ? change(visible) : change;
      setColumnVisibility(next);
      try {
        localStorage.setItem(key, JSON.stringify(next));
      } catch {
        // without storage the choice lasts as long as the page
      }
    },
  });
  return { shown: visitors.map((who, at) => ({ who, at })).filter(({ who }) => visible[who]), table };
}

function read(key: string): Record<string, boolean> {
  try {
    return JSON.parse(localStorage.getItem(key) ?? "{}");
  } catch {
    return {};
  }
}

export function ChooseColumns({ table, visitors }: { table: ReturnType<typeof useColumns>["table"]; visitors: string[] }) {
  const [words, setWords] = useState("");
  const all = table.getAllLeafColumns();
  const shown = all.filter((c) => c.getIsVisible()).length;
  const fitting = all.filter((c) => c.id.toLowerCase().includes(words.toLowerCase()));
  return (
    <Popover>
      <PopoverButton className={plain}>
        Visitors: {shown === visitors.length ? "all" : `${shown} of ${visitors.length}`} <span aria-hidden="true">▾</span>
      </PopoverButton>
      <PopoverPanel
        anchor="bottom start"
        className="z-30 mt-1 flex max-h-96 w-72 flex-col gap-2 rounded border border-line bg-sheet p-3 shadow-lg"
      >
        {visitors.length > 12 && (
          <input
            type="search"
            aria-label="Find a visitor"
            placeholder="Find a visitor"
            value={words}
            onChange={(e) => setWords(e.target.value)}
            className={field}
          />
        )}
        <div className="flex gap-2">
          <button type="button" className={small} onClick={() => table.toggleAllColumnsVisible(true)}>
            All
          </button>
          <button
            type="button"
            className={small}
            onClick={() => table.setColumnVisibility(Object.fromEntries(visitors.map((who, i) => [who, i === 0])))}
          >
            Not signed in only
          </button>
        </div>
        <ul className="flex flex-col gap-0.5 overflow-y-auto">
          {fitting.map((c) => (
            <li key={c.id}>
              <label className="flex items-start gap-2 py-0.5">
                <input type="checkbox" className="mt-1" checked={c.getIsVisible()} onChange={c.getToggleVisibilityHandler()} />
                <code className="wrap-anywhere">{c.id}</code>
              </label>
            </li>
          ))}
          {fitting.length === 0 && <li className="text-soft">No visitor matches.</li>}
        </ul>
      </PopoverPanel>
    </Popover>
  );
}
