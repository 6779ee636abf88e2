import { useMemo, useState } from "react";
import { hasRegions, type Spot, summary } from "./tree";
import { OutcomeShape } from "../parts/OutcomeMark";
import type { Row } from "../schema";

export interface Asked {
  row: Row;
  visitor: string;
}

const step = 200;

// The rows of a spot, and if it is open those below. With all, everything is open.
export function SpotRows({ spot, depth, visitors, all, onAsk }: { spot: Spot; depth: number; visitors: string[]; all: boolean; onAsk: (a: Asked) => void }) {
  const [chosen, setChosen] = useState<boolean>();
  const [limit, setLimit] = useState(step);
  const below = useMemo(() => sorted([...spot.below.values()]), [spot]);
  // The file of a door for one path alone is that very place.
  const file = spot.regions.some((r) => !r.doors[0]?.path.endsWith("/**")) ? undefined : spot.file;
  const open = chosen ?? (all || below.some(hasRegions));
  const toggle = below.length > 0 || (file && spot.regions.length > 0) ? { open, onToggle: () => setChosen(!open) } : undefined;
  const isRoot = depth === 0;
  const name = isRoot ? "/" : "/" + spot.name;
  return (
    <>
      {spot.regions.map((row, i) => (
        <PlaceRow key={row.label} row={row} name={regionName(row, name)} depth={depth} visitors={visitors} onAsk={onAsk} toggle={i === 0 ? toggle : undefined} />
      ))}
      {spot.regions.length === 0 && spot.file && <PlaceRow row={spot.file} name={name} depth={depth} visitors={visitors} onAsk={onAsk} toggle={toggle} file />}
      {spot.regions.length === 0 && !spot.file && (
        <tr className="border-b border-line hover:bg-hover">
          <Name name={name} depth={depth} toggle={toggle} soft />
          {summary(spot, visitors.length).map((o, i) => (
            <td key={i} className="text-center text-soft">
              {o ? (
                <span className="inline-flex p-1.5 opacity-60">
                  <OutcomeShape outcome={o} />
                  <span className="sr-only">{o}, all below</span>
                </span>
              ) : (
                <span>
                  <span aria-hidden="true">·</span>
                  <span className="sr-only">differs below</span>
                </span>
              )}
            </td>
          ))}
        </tr>
      )}
      {open && spot.regions.length > 0 && file && <PlaceRow row={file} name={file.label} depth={depth + 1} visitors={visitors} onAsk={onAsk} file />}
      {open && below.slice(0, limit).map((b) => <SpotRows key={b.key} spot={b} depth={depth + 1} visitors={visitors} all={all} onAsk={onAsk} />)}
      {open && below.length > limit && (
        <tr>
          <td colSpan={visitors.length + 1} style={{ paddingLeft: `${(depth + 1) * 1.25 + 1.5}rem` }}>
            <button type="button" className="cursor-pointer py-1 underline" onClick={() => setLimit(limit + step)}>
              Show {Math.min(step, below.length - limit)} more of {below.length - limit}
            </button>
          </td>
        </tr>
      )}
    </>
  );
}

// By name, patterns with a star behind plain names.
const sorted = (spots: Spot[]) => spots.sort((a, b) => Number(a.name.includes("*")) - Number(b.name.includes("*")) || a.name.localeCompare(b.name));

function regionName(row: Row, name: string): string {
  const methods = /^[A-Z, -]+(?= )/.exec(row.label)?.[0];
  const whole = row.doors[0]?.path.endsWith("/**") ? `${name === "/" ? "" : name}/**` : name;
  return (methods ? methods + " " : "") + row.host + whole;
}

interface Toggle {
  open: boolean;
  onToggle: () => void;
}

function Name({ name, depth, toggle, soft }: { name: string; depth: number; toggle?: Toggle; soft?: boolean }) {
  return (
    <th scope="row" className="py-1 pr-6 font-normal">
      <span className="flex items-center gap-1" style={{ paddingLeft: `${depth * 1.25}rem` }}>
        {toggle ? (
          <button type="button" aria-expanded={toggle.open} aria-label={`Below ${name}`} className="w-6 shrink-0 cursor-pointer text-soft hover:text-ink" onClick={toggle.onToggle}>
            <span aria-hidden="true">{toggle.open ? "▾" : "▸"}</span>
          </button>
        ) : (
          <span className="w-6 shrink-0" />
        )}
        <code className={`wrap-anywhere ${soft ? "text-soft" : ""}`}>{name}</code>
      </span>
    </th>
  );
}

export function PlaceRow({ row, name, depth, visitors, onAsk, toggle, file }: { row: Row; name: string; depth: number; visitors: string[]; onAsk: (a: Asked) => void; toggle?: Toggle; file?: boolean }) {
  return (
    <tr className="border-b border-line hover:bg-hover">
      <Name name={name} depth={depth} toggle={toggle} soft={file} />
      {row.cells.map((c, i) => (
        <td key={i} className="text-center">
          <button
            type="button"
            title={c.detail}
            aria-label={`${name} as ${visitors[i]}: ${c.detail}`}
            className="inline-flex cursor-pointer rounded p-1.5 hover:bg-sheet"
            onClick={() => onAsk({ row, visitor: visitors[i]! })}
          >
            <OutcomeShape outcome={c.outcome} />
          </button>
        </td>
      ))}
    </tr>
  );
}
