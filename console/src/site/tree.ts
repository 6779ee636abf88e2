import type { Decider, Spot } from "../schema";

// A line of the tree: a place, how deep it stands, and what is below it.
export interface Line {
  spot: Spot;
  name: string;
  depth: number;
  below: number; // how many lines are below it, at whatever depth
  open: number; // of those, how many a stranger gets into although this one is closed; or the other way round
  worries: number; // of those, how many are worth a look
}

// The lines of a site, each before what is below it.
export function linesOf(spots: Spot[]): Line[] {
  const lines = spots.map((spot): Line => {
    const segments = spot.path === "/" ? [] : spot.path.slice(1).split("/");
    return { spot, name: segments.at(-1) ?? "", depth: segments.length, below: 0, open: 0, worries: 0 };
  });
  const open: Line[] = [];
  for (const line of lines) {
    while (open.length && open.at(-1)!.depth >= line.depth) open.pop();
    for (const above of open) {
      above.below++;
      if (line.spot.worry && !above.spot.worry) above.worries++;
      if ((above.spot.outcome === "admit") !== (line.spot.outcome === "admit")) above.open++;
    }
    open.push(line);
  }
  return lines;
}

export interface Filter {
  words: string;
  only: "" | "everybody" | "closed" | "unlisted" | "worry";
}

const fits = (line: Line, f: Filter, deciders: Decider[]) => {
  const { spot } = line;
  if (f.words && !spot.path.toLowerCase().includes(f.words.toLowerCase())) return false;
  switch (f.only) {
    case "everybody":
      return spot.outcome === "admit";
    case "closed":
      return spot.outcome !== "admit";
    case "unlisted":
      return deciders[spot.decider]?.name === "the rule for unlisted places";
    case "worry":
      return !!spot.worry;
  }
  return true;
};

// The lines that are to be seen: with a filter those that fit and all above them, without one those whose
// branches are open.
export function shownLines(lines: Line[], open: Set<string>, filter: Filter, deciders: Decider[]): Line[] {
  if (filter.words || filter.only) {
    const keep = new Set<Line>();
    const above: Line[] = [];
    for (const line of lines) {
      while (above.length && above.at(-1)!.depth >= line.depth) above.pop();
      above.push(line);
      if (fits(line, filter, deciders)) for (const a of above) keep.add(a);
    }
    return lines.filter((l) => keep.has(l));
  }
  const shown: Line[] = [];
  for (let i = 0; i < lines.length; i++) {
    shown.push(lines[i]!);
    if (lines[i]!.below > 0 && !open.has(lines[i]!.spot.path)) i += lines[i]!.below;
  }
  return shown;
}
