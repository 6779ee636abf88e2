import type { Outcome } from "../parts/OutcomeMark";
import type { Row } from "../schema";

// A place of the site, by path segment: the regions whose doors are written for it, the
// file at it, and what is below.
export interface Spot {
  key: string;
  name: string;
  regions: Row[];
  file?: Row;
  below: Map<string, Spot>;
}

const spot = (key: string, name: string): Spot => ({ key, name, regions: [], below: new Map() });

const at = (root: Spot, path: string): Spot => {
  let here = root;
  for (const segment of path.split("/").filter(Boolean)) {
    let next = here.below.get(segment);
    if (!next) here.below.set(segment, (next = spot(`${here.key}/${segment}`, segment)));
    here = next;
  }
  return here;
};

// The site as a tree. Regions where doors cross, and what no door covers, belong to no
// single path and are returned beside it.
export function matrixTree(regions: Row[], files: Row[]): { root: Spot; apart: Row[] } {
  const root = spot("", "/");
  const apart: Row[] = [];
  for (const row of regions) {
    const [door, another] = row.doors;
    if (!door || another || door.line === 0 || door.path === "unlisted") apart.push(row);
    else at(root, door.path.replace(/\/\*\*$/, "")).regions.push(row);
  }
  for (const row of files) at(root, row.label).file = row;
  return { root, apart };
}

export const rowsOf = (s: Spot): Row[] => (s.file ? [...s.regions, s.file] : s.regions);

// What is at a spot and below, for every visitor: the one outcome, or null if they differ.
export function summary(s: Spot, visitors: number): (Outcome | null)[] {
  const found: (Outcome | null | undefined)[] = Array.from({ length: visitors });
  const visit = (here: Spot) => {
    for (const row of rowsOf(here))
      row.cells.forEach((c, i) => {
        found[i] = found[i] === undefined || found[i] === c.outcome ? c.outcome : null;
      });
    for (const next of here.below.values()) visit(next);
  };
  visit(s);
  return found.map((f) => f ?? null);
}

// The tree without what does not fit; undefined if nothing is left.
export function pruned(s: Spot, fits: (row: Row) => boolean): Spot | undefined {
  const below = new Map<string, Spot>();
  for (const [name, next] of s.below) {
    const kept = pruned(next, fits);
    if (kept) below.set(name, kept);
  }
  const regions = s.regions.filter(fits);
  const file = s.file && fits(s.file) ? s.file : undefined;
  return regions.length || file || below.size ? { ...s, regions, file, below } : undefined;
}

export const hasRegions = (s: Spot): boolean => s.regions.length > 0 || [...s.below.values()].some(hasRegions);
