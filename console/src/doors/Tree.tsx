import { useMemo } from "react";
import { type Branch, branchesOf, doorsOf, siteTree } from "./tree";
import { Admits, TryLink } from "./words";
import type { Door } from "../schema";

export function Tree({ doors, unlisted }: { doors: Door[]; unlisted: string }) {
  const tree = useMemo(() => siteTree(doors), [doors]);
  return (
    <div className="border-t border-line">
      <TreeLevel branch={tree} depth={0} inherited={`unlisted: ${unlisted}`} />
    </div>
  );
}

// One branch of the site: its own doors, or what it inherits, and the branches below.
function TreeLevel({ branch, depth, inherited }: { branch: Branch; depth: number; inherited: string }) {
  const here = doorsOf(branch);
  const below = branch.below.length > 0 ? `${branch.below.map((d) => d.admit).join(" and ")} (line ${branch.below[0].line})` : inherited;
  return (
    <>
      <div className="grid grid-cols-[minmax(14rem,2fr)_3fr_3rem] gap-4 border-b border-line py-2 hover:bg-hover">
        <div style={{ paddingLeft: `${depth * 1.5}rem` }}>
          <code className={here.length ? "" : "text-soft"}>{branch.name}</code>
        </div>
        <div className="flex flex-col gap-1">
          {here.length === 0 && <span className="text-sm text-soft">as above: {inherited}</span>}
          {here.map((d) => (
            <div key={d.id} className="flex flex-wrap gap-x-3">
              <Admits door={d} />
              {d.methods.length > 0 && <span className="text-sm">only {d.methods.join(", ")}</span>}
              {d.host && <span className="text-sm">on {d.host}</span>}
              <span className="text-sm text-soft">
                {d.path.endsWith("/**") ? "and everything below" : "this path alone"}, line {d.line}
              </span>
            </div>
          ))}
        </div>
        <div className="text-right">{here.length > 0 && <TryLink door={here[0]} />}</div>
      </div>
      {branchesOf(branch).map((b) => (
        <TreeLevel key={b.name} branch={b} depth={depth + 1} inherited={below} />
      ))}
    </>
  );
}
