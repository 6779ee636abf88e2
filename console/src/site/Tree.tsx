import { useRef, useState } from "react";
import { OutcomeShape, wordOf } from "../parts/OutcomeMark";
import { type Line } from "./tree";

const height = 32; // of a line, in pixels; the same as in the style

// The site as a tree of which only the lines are drawn that can be seen. By keyboard: up and down, right
// opens a branch, left closes it or goes up.
export function Tree({
  lines,
  chosen,
  open,
  onChoose,
  onOpen,
}: {
  lines: Line[];
  chosen?: string;
  open: (path: string) => boolean;
  onChoose: (path: string) => void;
  onOpen: (path: string, open: boolean) => void;
}) {
  const [top, setTop] = useState(0);
  const box = useRef<HTMLDivElement>(null);
  const seen = box.current?.clientHeight ?? 800;
  const from = Math.max(0, Math.floor(top / height) - 10);
  const to = Math.min(lines.length, Math.ceil((top + seen) / height) + 10);
  const at = lines.findIndex((l) => l.spot.path === chosen);
  const go = (i: number) => {
    const line = lines[Math.min(Math.max(i, 0), lines.length - 1)];
    if (!line || !box.current) return;
    onChoose(line.spot.path);
    const y = lines.indexOf(line) * height;
    if (y < box.current.scrollTop) box.current.scrollTop = y;
    else if (y + height > box.current.scrollTop + box.current.clientHeight) box.current.scrollTop = y + height - box.current.clientHeight;
  };
  const onKeyDown = (e: React.KeyboardEvent) => {
    const line = lines[at];
    const step: Record<string, () => void> = {
      ArrowDown: () => go(at + 1),
      ArrowUp: () => go(at - 1),
      Home: () => go(0),
      End: () => go(lines.length - 1),
      PageDown: () => go(at + 15),
      PageUp: () => go(at - 15),
      ArrowRight: () => line && (line.below > 0 && !open(line.spot.path) ? onOpen(line.spot.path, true) : go(at + 1)),
      ArrowLeft: () => {
        if (!line) return;
        if (line.below > 0 && open(line.spot.path)) onOpen(line.spot.path, false);
        else for (let i = at - 1; i >= 0; i--) if (lines[i]!.depth < line.depth) return go(i);
      },
    };
    if (step[e.key]) {
      e.preventDefault();
      step[e.key]!();
    }
  };
  return (
    <div
      ref={box}
      role="tree"
      aria-label="The site"
      tabIndex={0}
      aria-activedescendant={at >= 0 ? `spot-${at}` : undefined}
      className="h-[calc(100vh-17rem)] min-h-72 overflow-y-auto rounded border border-line bg-sheet max-lg:h-80"
      onScroll={(e) => setTop(e.currentTarget.scrollTop)}
      onKeyDown={onKeyDown}
    >
      <div style={{ height: lines.length * height }} className="relative" role="presentation">
        {lines.slice(from, to).map((line, i) => {
          const { spot } = line;
          const isOpen = open(spot.path);
          const name = line.depth === 0 ? "/" : line.name + (spot.directory ? "/" : "");
          const notes = [
            line.worries > 0 && !isOpen && `${line.worries} ${line.worries === 1 ? "needs" : "need"} attention below`,
            line.open > 0 && !isOpen && `${line.open} ${spot.outcome === "admit" ? "closed" : "open"} below`,
          ].filter((n) => n !== false);
          return (
            // The tree has the focus and the keyboard; aria-activedescendant says which of these it is on.
            // eslint-disable-next-line jsx-a11y/click-events-have-key-events, jsx-a11y/interactive-supports-focus
            <div
              key={spot.path}
              id={`spot-${from + i}`}
              role="treeitem"
              aria-level={line.depth + 1}
              aria-selected={spot.path === chosen}
              aria-expanded={line.below > 0 ? isOpen : undefined}
              data-path={spot.path}
              className={`absolute inset-x-0 flex h-8 cursor-pointer items-center gap-2 pr-3
                ${spot.path === chosen ? "bg-hover" : "hover:bg-hover"}`}
              style={{ top: (from + i) * height, paddingLeft: `${line.depth * 1.1 + 0.5}rem` }}
              onClick={() => onChoose(spot.path)}
            >
              <span
                aria-hidden="true"
                className="w-4 shrink-0 text-soft"
                onClick={(e) => {
                  if (line.below === 0) return;
                  e.stopPropagation();
                  onOpen(spot.path, !isOpen);
                }}
              >
                {line.below > 0 ? (isOpen ? "▾" : "▸") : ""}
              </span>
              <span className={spot.own ? "" : "opacity-40"}>
                <OutcomeShape outcome={spot.outcome} />
              </span>
              {spot.theirs && (
                <span className={spot.own ? "" : "opacity-40"}>
                  <OutcomeShape outcome={spot.theirs} />
                </span>
              )}
              <span className={`truncate font-mono text-sm ${spot.path === chosen ? "font-bold" : ""}`}>{name}</span>
              {spot.worry && <span className="shrink-0 rounded border border-ask px-1.5 text-xs text-ask">{spot.worry}</span>}
              <span className="sr-only">
                {wordOf(spot.outcome)}
                {spot.theirs && `, for the visitor ${wordOf(spot.theirs)}`}
                {spot.own && ", has a door of its own"}
              </span>
              {notes.length > 0 && <span className="ml-auto shrink-0 text-xs text-soft">{notes.join(" ")}</span>}
            </div>
          );
        })}
      </div>
    </div>
  );
}
