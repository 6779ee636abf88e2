import { defaultRangeExtractor, type Range, useVirtualizer } from "@tanstack/react-virtual";
import { memo, useEffect, useLayoutEffect, useMemo, useRef, useState } from "react";
import { type Line, outcomeOf, summary } from "./tree";
import { OutcomeShape, wordOf } from "../parts/OutcomeMark";
import type { MarkedRow } from "../schema";

export interface Asked {
  row: MarkedRow;
  visitor: string;
}

export interface Column {
  who: string;
  at: number; // in the marks of a row
  onLeaveOut?: () => void;
}

const rowHeight = 34;

// What is drawn: what is visible, and always the active line or column. A focused cell that is no longer drawn would take the
// focus with it, and the next key would be lost.
const visibleAnd = (active: number) => (range: Range) =>
  [...new Set([...defaultRangeExtractor(range), active])].filter((i) => i >= 0 && i < range.count).sort((a, b) => a - b);

interface GridProps {
  lines: Line[];
  columns: Column[];
  narrow: boolean;
  onAsk: (a: Asked) => void;
  onToggle: (line: Line) => void;
}

// The matrix as a grid of which only what is visible is drawn: the names of places and visitors stay in view. One walks
// through it by the arrow keys; column 0 are the places.
export function Grid({ lines, columns, narrow, onAsk, onToggle }: GridProps) {
  const scroller = useRef<HTMLDivElement>(null);
  const [active, setActive] = useState({ line: 0, column: 0 });
  const wanted = useRef(false); // the focus, for the active cell
  const [nameWidth, columnWidth, indent] = narrow ? [190, 84, 12] : [340, 92, 20];
  const headHeight = columns.some((c) => c.onLeaveOut) ? 84 : 60;
  const line = Math.min(active.line, lines.length - 1);
  const column = Math.min(active.column, columns.length);
  const rows = useVirtualizer({
    count: lines.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => rowHeight,
    getItemKey: (i) => lines[i]!.key,
    rangeExtractor: useMemo(() => visibleAnd(line), [line]),
    overscan: 6,
    useFlushSync: false,
    paddingStart: headHeight,
    scrollPaddingStart: headHeight,
  });
  const across = useVirtualizer({
    horizontal: true,
    count: columns.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => columnWidth,
    rangeExtractor: useMemo(() => visibleAnd(column - 1), [column]),
    overscan: 2,
    useFlushSync: false,
    paddingStart: nameWidth,
    scrollPaddingStart: nameWidth,
  });
  useEffect(() => across.measure(), [across, columnWidth]);

  useLayoutEffect(() => {
    if (!wanted.current) return;
    const cell = scroller.current?.querySelector<HTMLElement>(`[data-cell="${line} ${column}"]`);
    if (cell) {
      cell.focus({ preventScroll: true });
      wanted.current = false;
    }
  });

  const go = (toLine: number, toColumn: number) => {
    const next = { line: Math.max(0, Math.min(toLine, lines.length - 1)), column: Math.max(0, Math.min(toColumn, columns.length)) };
    wanted.current = true;
    setActive(next);
    rows.scrollToIndex(next.line);
    if (next.column > 0) across.scrollToIndex(next.column - 1);
  };
  const page = () => Math.max(1, Math.floor(((scroller.current?.clientHeight ?? 0) - headHeight) / rowHeight) - 1);
  const onKeyDown = (e: React.KeyboardEvent) => {
    const steps: Record<string, () => void> = {
      ArrowDown: () => go(line + 1, column),
      ArrowUp: () => go(line - 1, column),
      ArrowRight: () => (column === 0 && lines[line]?.open === false ? onToggle(lines[line]) : go(line, column + 1)),
      ArrowLeft: () => (column === 0 && lines[line]?.open ? onToggle(lines[line]) : go(line, column - 1)),
      PageDown: () => go(line + page(), column),
      PageUp: () => go(line - page(), column),
      Home: () => go(e.ctrlKey ? 0 : line, 0),
      End: () => go(e.ctrlKey ? lines.length - 1 : line, columns.length),
    };
    const step = steps[e.key];
    if (!step || e.altKey || e.metaKey) return;
    e.preventDefault();
    step();
  };

  const seen = across.getVirtualItems();
  return (
    // One of its cells has the focus.
    // eslint-disable-next-line jsx-a11y/interactive-supports-focus
    <div
      ref={scroller}
      role="grid"
      aria-label="Who gets what"
      aria-rowcount={lines.length + 1}
      aria-colcount={columns.length + 1}
      onKeyDown={onKeyDown}
      className="max-h-[max(24rem,calc(100vh-19rem))] overflow-auto border-y border-line max-md:max-h-[calc(100vh-8rem)]"
    >
      <div className="relative" style={{ width: across.getTotalSize(), height: rows.getTotalSize() }}>
        <div
          role="row"
          aria-rowindex={1}
          className="sticky top-0 z-20 border-b border-line bg-paper text-sm"
          style={{ height: headHeight }}
        >
          <div
            role="columnheader"
            aria-colindex={1}
            className="sticky left-0 z-10 flex h-full items-end bg-paper py-2 text-soft"
            style={{ width: nameWidth }}
          >
            Place
          </div>
          {seen.map((c) => (
            <div
              key={c.key}
              role="columnheader"
              aria-colindex={c.index + 2}
              className="absolute top-0 flex h-full flex-col justify-end px-1 py-2 text-center leading-tight"
              style={{ left: c.start, width: c.size }}
            >
              <VisitorName who={columns[c.index]!.who} />
              {columns[c.index]!.onLeaveOut && (
                <button
                  type="button"
                  className="cursor-pointer text-soft underline"
                  aria-label={`Hide the column ${columns[c.index]!.who}`}
                  onClick={columns[c.index]!.onLeaveOut}
                >
                  leave out
                </button>
              )}
            </div>
          ))}
        </div>
        {rows.getVirtualItems().map((r) => (
          <GridRow
            key={r.key}
            line={lines[r.index]!}
            index={r.index}
            top={r.start}
            nameWidth={nameWidth}
            indent={indent}
            columns={columns}
            seen={seen}
            active={r.index === line ? column : -1}
            onAsk={onAsk}
            onToggle={onToggle}
            onFocus={setActive}
          />
        ))}
      </div>
    </div>
  );
}

interface GridRowProps {
  line: Line;
  index: number;
  top: number;
  nameWidth: number;
  indent: number;
  columns: Column[];
  seen: { key: React.Key; index: number; start: number; size: number }[];
  active: number;
  onAsk: (a: Asked) => void;
  onToggle: (line: Line) => void;
  onFocus: (cell: { line: number; column: number }) => void;
}

const GridRow = memo(function GridRow({
  line,
  index,
  top,
  nameWidth,
  indent,
  columns,
  seen,
  active,
  onAsk,
  onToggle,
  onFocus,
}: GridRowProps) {
  const below = line.row ? "" : summary(line.spot!);
  return (
    <div
      role="row"
      aria-rowindex={index + 2}
      className="group absolute left-0 w-full contain-strict border-b border-line hover:bg-hover"
      style={{ top, height: rowHeight }}
    >
      <div
        role="rowheader"
        aria-colindex={1}
        aria-expanded={line.open}
        tabIndex={active === 0 ? 0 : -1}
        data-cell={`${index} 0`}
        title={line.name}
        onFocus={() => onFocus({ line: index, column: 0 })}
        onKeyDown={(e) => {
          if ((e.key === "Enter" || e.key === " ") && e.target === e.currentTarget && line.open !== undefined) {
            e.preventDefault();
            onToggle(line);
          }
        }}
        className="sticky left-0 z-10 flex h-full items-center gap-1 bg-paper pr-3 group-hover:bg-hover focus-visible:-outline-offset-2"
        style={{ width: nameWidth, paddingLeft: Math.min(line.depth * indent, nameWidth / 3) }}
      >
        {line.open !== undefined ? (
          <button
            type="button"
            tabIndex={-1}
            aria-label={`Below ${line.name}`}
            className="w-6 shrink-0 cursor-pointer text-soft hover:text-ink"
            onClick={() => onToggle(line)}
          >
            <span aria-hidden="true">{line.open ? "▾" : "▸"}</span>
          </button>
        ) : (
          <span className="w-6 shrink-0" />
        )}
        <code className={`truncate ${line.soft ? "text-soft" : ""}`}>{line.name}</code>
      </div>
      {seen.map((c) => {
        const { who, at } = columns[c.index]!;
        const mark = line.row ? line.row.marks[at] : below[at];
        const outcome = mark && mark !== " " ? outcomeOf(mark) : undefined;
        const ask = line.row && (() => onAsk({ row: line.row!, visitor: who }));
        return (
          <div
            key={c.key}
            role="gridcell"
            aria-colindex={c.index + 2}
            tabIndex={active === c.index + 1 ? 0 : -1}
            data-cell={`${index} ${c.index + 1}`}
            aria-label={`${line.name} as ${who}: ${outcome ? wordOf(outcome) + (line.row ? "" : ", all below") : "mixed below"}`}
            className={`absolute top-0 flex h-full items-center justify-center focus-visible:-outline-offset-2
              ${line.row ? "cursor-pointer hover:bg-sheet" : outcome ? "opacity-60" : "text-soft"}`}
            style={{ left: c.start, width: c.size }}
            onFocus={() => onFocus({ line: index, column: c.index + 1 })}
            onClick={ask}
            onKeyDown={(e) => {
              if (ask && (e.key === "Enter" || e.key === " ")) {
                e.preventDefault();
                ask();
              }
            }}
          >
            {outcome ? <OutcomeShape outcome={outcome} /> : "·"}
          </div>
        );
      })}
    </div>
  );
});

// "role:keeper" on two lines, so that the columns stay narrow.
function VisitorName({ who }: { who: string }) {
  const [first, ...rest] = who.split(/(?<=^[^,]*?:)|(?<=,)/);
  return (
    <span className="wrap-anywhere" title={who}>
      <span className={rest.length ? "block text-soft" : ""}>{first}</span>
      {rest.map((r, i) => (
        <span key={i} className="line-clamp-2">
          {r}
        </span>
      ))}
    </span>
  );
}
