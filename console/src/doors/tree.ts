import type { Door } from "../schema";

// A branch of the site, by path segment. A door for a path and one for everything below
// it stand at the same branch.
export interface Branch {
  name: string;
  exact: Door[]; // doors for this path alone
  below: Door[]; // doors for this path and everything below
  branches: Map<string, Branch>;
}

const empty = (name: string): Branch => ({ name, exact: [], below: [], branches: new Map() });

export function siteTree(doors: Door[]): Branch {
  const root = empty("/");
  for (const door of doors) {
    const segments = door.path.split("/").filter(Boolean);
    const all = segments.at(-1) === "**";
    if (all) segments.pop();
    let at = root;
    for (const segment of segments) {
      let next = at.branches.get(segment);
      if (!next) at.branches.set(segment, (next = empty("/" + segment)));
      at = next;
    }
    (all ? at.below : at.exact).push(door);
  }
  return root;
}

export const doorsOf = (b: Branch) => [...b.below, ...b.exact];

export const branchesOf = (b: Branch) => [...b.branches.values()].sort((x, y) => x.name.localeCompare(y.name));
