import { key, type Kept } from "./keys";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { useSettled } from "./hooks";
import { Broken, Loading } from "./states";
import { field, small } from "./styles";

// How many of a list are shown at a time.
export const shownAtOnce = 50;

// A list in parts. What is looked for stands in the address; start says what can be, and what it is at first. A part is named by where it
// begins. Ask is called for each part of what is looked for, and again after some time for the first one; the time may depend on what came.
export function useList<F extends Record<string, string>, At, D>(
  name: Kept,
  start: F,
  ask: (filter: F, at: At | undefined, signal: AbortSignal) => Promise<D>,
  every: number | false | ((found?: D) => number | false) = false,
) {
  const [params, setParams] = useSearchParams();
  const [way, setWay] = useState<At[]>([]);
  const filter = Object.fromEntries(Object.entries(start).map(([key, value]) => [key, params.get(key) ?? value])) as F;
  const settled = useSettled(filter, 200);
  const at = way.at(-1);
  const found = useQuery({
    queryKey: key(name, "list", settled, at),
    queryFn: ({ signal }) => ask(settled, at, signal),
    placeholderData: keepPreviousData,
    refetchInterval: ({ state }) => way.length === 0 && (typeof every === "function" ? every(state.data) : every),
  });
  return {
    filter, // as it is typed
    settled, // as it is looked for
    any: Object.values(settled).some(Boolean), // whether something is looked for
    found,
    at,
    set: (change: Partial<F> & Record<string, string>) => {
      if (Object.keys(change).some((key) => key in start)) setWay([]);
      const next = { ...Object.fromEntries(params), ...change };
      setParams(Object.fromEntries(Object.entries(next).filter(([, value]) => value)), { replace: true });
    },
    onward: (next: At) => setWay([...way, next]),
    go: (to: At | undefined) => setWay(to === undefined ? [] : [to]),
    back: way.length > 0 ? () => setWay(way.slice(0, -1)) : undefined,
  };
}

type List<D> = { found: ReturnType<typeof useQuery<D>> };

// What was found; before that, that it is on its way or why it isn't; and where there is nothing, what is said then.
export function Listed<D>(p: {
  what: string;
  list: List<D>;
  empty: (found: D) => boolean;
  none: React.ReactNode;
  children: (found: D) => React.ReactNode;
}) {
  const { data, error, isPending, refetch } = p.list.found;
  if (isPending) return <Loading what={`the ${p.what}`} />;
  if (error) return <Broken what={p.what} error={error} retry={() => refetch()} />;
  return p.empty(data) ? <p className="py-8 text-soft">{p.none}</p> : p.children(data);
}

// One of several, of which one is chosen.
export function Chips(p: {
  label: string;
  chosen: string;
  of: { value: string; label: string; count?: number }[];
  onChoose: (value: string) => void;
}) {
  return (
    <div role="group" aria-label={p.label} className="flex flex-wrap gap-1">
      {p.of.map((c) => (
        <button
          key={c.value}
          type="button"
          className={`${small} ${p.chosen === c.value ? "bg-hover font-bold" : ""}`}
          aria-pressed={p.chosen === c.value}
          onClick={() => p.onChoose(c.value)}
        >
          {c.label}
          {c.count !== undefined && (
            <>
              {" "}
              <span className="text-soft tabular-nums">{c.count}</span>
            </>
          )}
        </button>
      ))}
    </div>
  );
}

export function Search(p: { value: string; placeholder: string; onChange: (value: string) => void }) {
  return (
    <label className="flex items-center gap-2 text-soft">
      Search
      <input
        type="search"
        className={`${field} w-64 max-w-full`}
        value={p.value}
        placeholder={p.placeholder}
        onChange={(e) => p.onChange(e.target.value)}
      />
    </label>
  );
}

// The way to the parts of a list around the one that is shown.
export function Parts(p: { back?: () => void; onward?: () => void }) {
  return (
    <div className="mt-4 flex gap-3">
      {p.back && (
        <button type="button" className={small} onClick={p.back}>
          Newer
        </button>
      )}
      {p.onward && (
        <button type="button" className={small} onClick={p.onward}>
          Older
        </button>
      )}
    </div>
  );
}
