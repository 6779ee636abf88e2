import type { Outcome } from "../parts/OutcomeMark";
import type { MarkedRow } from "../schema";

// A place of the site, by path segment: the regions whose doors are written for it, the
// file at it, and what is below.
export interface Spot {
  key: string;
  name: string;
  regions: MarkedRow[];
  file?: MarkedRow;
  below: Map<string, Spot>;
  hasRegions: boolean; // at it or below
}

const outcomes: Record<string, Outcome> = { a: "admit", c: "challenge", r: "refuse", h: "hide", x: "reject" };
export const outcomeOf = (mark: string): Outcome => outcomes[mark] ?? "reject";
export const markOf = (outcome: Outcome): string => Object.keys(outcomes).find((m) => outcomes[m] === outcome)!;

const spot = (key: string, name: string): Spot => ({ key, name, regions: [], below: new Map(), hasRegions: false });

function at(root: Spot, path: string, region: boolean): Spot {
  let here = root;
  if (region) here.hasRegions = true;
  for (const segment of path.split("/").filter(Boolean)) {
    let next = here.below.get(segment);
    if (!next) here.below.set(segment, (next = spot(`${here.key}/${segment}`, segment)));
    here = next;
    if (region) here.hasRegions = true;
  }
  return here;
}

// The site as a tree. Regions where doors cross, and what no door covers, belong to no
// single path and are returned beside it.
export function matrixTree(regions: MarkedRow[], files: MarkedRow[]): { root: Spot; apart: MarkedRow[] } {
  const root = spot("", "/");
  const apart: MarkedRow[] = [];
  for (const row of regions) {
    const [door, another] = row.doors;
    if (!door || another || door.line === 0 || door.path === "unlisted") apart.push(row);
    else at(root, door.path.replace(/\/\*\*$/, ""), true).regions.push(row);
  }
  for (const row of files) at(root, row.label, false).file = row;
  return { root, apart };
}

// What is at a spot and below, for every visitor: the one mark, or a space if they differ.
export function summary(s: Spot): string {
  let found: string[] | undefined;
  const visit = (here: Spot) => {
    for (const row of here.file ? [...here.regions, here.file] : here.regions)
      found = found ? found.map((f, i) => (f === row.marks[i] ? f : " ")) : [...row.marks];
    for (const next of here.below.values()) visit(next);
  };
  visit(s);
  return found?.join("") ?? "";
}

// A line of the matrix as it is seen.
export interface Line {
  key: string;
  name: string;
  depth: number;
  row?: MarkedRow; // else what is below in short
  spot?: Spot;
  open?: boolean; // undefined if there is nothing to open
  soft?: boolean;
}

interface Shown {
  fits?: (row: MarkedRow) => boolean; // only those; undefined for all
  chosen: Map<string, boolean>; // which spots are open or closed by choice
}

// The lines that are seen, from the top.
export function linesOf({ root, apart }: { root: Spot; apart: MarkedRow[] }, { fits, chosen }: Shown): Line[] {
  const lines: Line[] = [];
  const leaves = new Map<Spot, boolean>();
  const left = (s: Spot): boolean => {
    if (!fits) return true;
    let some = leaves.get(s);
    if (some === undefined) {
      some = s.regions.some(fits) || (!!s.file && fits(s.file));
      for (const next of s.below.values()) if (left(next)) some = true;
      leaves.set(s, some);
    }
    return some;
  };
  const visit = (s: Spot, depth: number) => {
    if (!left(s)) return;
    const name = depth === 0 ? "/" : "/" + s.name;
    const regions = fits ? s.regions.filter(fits) : s.regions;
    const ownFile = s.file && (!fits || fits(s.file)) ? s.file : undefined;
    // The file of a door for one path alone is that very place.
    const file = s.regions.some((r) => !r.doors[0]?.path.endsWith("/**")) ? undefined : ownFile;
    const below = sorted([...s.below.values()].filter(left));
    const opens = below.length > 0 || (file && regions.length > 0);
    const open = opens ? (chosen.get(s.key) ?? (!!fits || below.some((b) => b.hasRegions))) : undefined;
    regions.forEach((row, i) =>
      lines.push({ key: `${s.key} ${row.label}`, name: regionName(row, name), depth, row, spot: s, open: i === 0 ? open : undefined }),
    );
    if (regions.length === 0) lines.push({ key: s.key, name, depth, row: ownFile, spot: s, open, soft: true });
    if (!open) return;
    if (regions.length > 0 && file) lines.push({ key: `${s.key} file`, name: file.label, depth: depth + 1, row: file, soft: true });
    for (const b of below) visit(b, depth + 1);
  };
  if (root.below.size > 0 || root.regions.length > 0 || root.file) visit(root, 0);
  for (const row of apart)
    if (!fits || fits(row))
      lines.push({ key: `apart ${row.label}`, name: row.doors[1] ? row.label : "everything else (unlisted)", depth: 0, row });
  return lines;
}

// By name, patterns with a star behind plain names.
const byName = new Intl.Collator().compare;
const sorted = (spots: Spot[]) =>
  spots.sort((a, b) => Number(a.name.includes("*")) - Number(b.name.includes("*")) || byName(a.name, b.name));

function regionName(row: MarkedRow, name: string): string {
  const methods = /^[A-Z, -]+(?= )/.exec(row.label)?.[0];
  const whole = row.doors[0]?.path.endsWith("/**") ? `${name === "/" ? "" : name}/**` : name;
  return (methods ? methods + " " : "") + row.host + whole;
}
