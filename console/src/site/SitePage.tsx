import { key } from "../parts/keys";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useMemo, useRef, useState } from "react";
import { useSearchParams } from "react-router";
import { OutcomeMark, type Outcome } from "../parts/OutcomeMark";
import { useSettled } from "../parts/hooks";
import { Broken, Heading, Loading } from "../parts/states";
import { field } from "../parts/styles";
import type { Site } from "../schema";
import { getDoors } from "../doors/queries";
import { targetOfDoor, targetOfSpot } from "./choice";
import { Proposals } from "./Proposals";
import { PlacePanel } from "./PlacePanel";
import { Tree } from "./Tree";
import { getSite } from "./queries";
import { linesOf, shownLines, type Filter } from "./tree";

const outcomes: Outcome[] = ["admit", "challenge", "refuse", "hide"];

// The directories above a path, so that it can be seen in the tree.
const above = (path: string) =>
  path
    .split("/")
    .slice(1, -1)
    .map((_, i, all) => "/" + all.slice(0, i + 1).join("/"));

// Where the places are known from.
function knownFrom(site: Site) {
  const from = ["doors"];
  if (site.files)
    from.push(`${site.files.toLocaleString()}${site.more ? " files (there are more)" : site.files === 1 ? " file" : " files"}`);
  if (site.sitemap) from.push(`${site.sitemap} addresses of sitemap.xml`);
  if (site.asked) from.push(`${site.asked} recently answered by upstream servers`);
  return `Known from ${from.length === 1 ? from[0] : `${from.slice(0, -1).join(", ")} and ${from.at(-1)}`}.`;
}

// The whole site as a stranger meets it; and for one place, who may go there.
export function SitePage() {
  const [params, setParams] = useSearchParams();
  const chosen = params.get("place") ?? "/";
  const [open, setOpen] = useState(() => new Set(["/", ...above(chosen)]));
  const [filter, setFilter] = useState<Filter>({ words: "", only: "" });
  const settled = useSettled(filter, 150);
  const as = params.get("as") ?? "";
  const [wanted] = useState(chosen); // it may be one that nothing is known of but its address
  const site = useQuery({
    queryKey: key("site", as, wanted),
    queryFn: () => getSite(as, wanted),
    refetchInterval: 60_000,
    placeholderData: keepPreviousData,
  });
  const doors = useQuery({ queryKey: key("doors"), queryFn: getDoors });
  const panel = useRef<HTMLDivElement>(null);
  const lines = useMemo(() => linesOf(site.data?.spots ?? []), [site.data]);
  const shown = useMemo(() => shownLines(lines, open, settled, site.data?.deciders ?? []), [lines, open, settled, site.data]);
  if (site.isPending) return <Loading what="the site" />;
  if (site.error) return <Broken what="site" error={site.error} retry={() => site.refetch()} />;
  const undecided = doors.data?.doors.every((d) => d.path === "/**") ?? false;
  const filtered = !!(settled.words || settled.only);
  const spot = site.data.spots.find((s) => s.path === chosen) ?? site.data.spots[0]!; // it may be gone
  const door = doors.data?.doors.find((d) => d.label === params.get("door"));
  const target = door ? targetOfDoor(door) : targetOfSpot(spot, site.data.deciders[spot.decider]!);
  const choose = (change: Record<string, string>) => setParams({ ...(as ? { as } : {}), ...change }, { replace: true });
  const suggested = site.data.proposals.length > 0 && !params.has("suggested") && (
    <>
      <button type="button" className="cursor-pointer text-brass underline" onClick={() => choose({ place: chosen, suggested: "" })}>
        {site.data.proposals.length === 1 ? "1 door is suggested" : `${site.data.proposals.length} doors are suggested`}
      </button>{" "}
      by file names.
    </>
  );
  return (
    <>
      <Heading title="Site">
        What visitors who aren't signed in see, place by place, at{" "}
        <a className="underline" href={site.data.url + "/"} target="_blank" rel="noreferrer">
          {site.data.url}
        </a>
        . Select a place to choose who may go there.
      </Heading>
      {undecided && suggested && (
        <p className="mb-3 border-l-4 border-ask py-1 pl-4">The policy has no doors for single places yet. {suggested}</p>
      )}
      <ul className="mb-3 flex flex-wrap gap-x-5 gap-y-1 text-sm" aria-label="What the marks mean">
        {outcomes.map((o) => (
          <li key={o}>
            <OutcomeMark outcome={o} />
          </li>
        ))}
        <li className="text-soft">faded = inherited{as ? "; the second mark is for the visitor you selected" : ""}</li>
      </ul>
      <div className="grid grid-cols-[minmax(0,2fr)_minmax(0,3fr)] gap-8 max-lg:grid-cols-1">
        <div>
          <div className="mb-3 flex flex-wrap gap-3">
            <input
              type="search"
              aria-label="Search the site"
              placeholder="a path"
              className={`${field} min-w-0 flex-1`}
              value={filter.words}
              onChange={(e) => setFilter({ ...filter, words: e.target.value })}
            />
            <select
              aria-label="Show"
              className={field}
              value={filter.only}
              onChange={(e) => setFilter({ ...filter, only: e.target.value as Filter["only"] })}
            >
              <option value="">all</option>
              <option value="everybody">open to everyone</option>
              <option value="closed">protected</option>
              <option value="unlisted">without a door</option>
              <option value="worry">needs attention</option>
            </select>
            <select
              aria-label="Compare with"
              className={field}
              value={as}
              onChange={(e) => setParams({ ...Object.fromEntries(params), as: e.target.value }, { replace: true })}
            >
              <option value="">not signed in</option>
              <option value="signed-in">and signed in</option>
              {doors.data?.roles.map((r) => (
                <option key={r} value={`role:${r}`}>
                  and with the role {r}
                </option>
              ))}
            </select>
          </div>
          {shown.length === 0 ? (
            <p className="py-8 text-soft">No place matches.</p>
          ) : (
            <Tree
              lines={shown}
              chosen={chosen}
              open={(path) => filtered || open.has(path)}
              onChoose={(place) => {
                choose({ place });
                // On a phone what was chosen stands below the tree.
                if (window.innerWidth < 1024) panel.current?.scrollIntoView({ block: "start" });
              }}
              onOpen={(path, now) => {
                const next = new Set(open);
                if (now) next.add(path);
                else next.delete(path);
                setOpen(next);
              }}
            />
          )}
          <p className="mt-2 text-sm text-soft">
            {knownFrom(site.data)} {!undecided && suggested}
          </p>
        </div>
        <div ref={panel} className="min-w-0">
          {params.has("suggested") ? (
            <Proposals
              key={site.data.proposals.map((p) => p.path).join()}
              proposals={site.data.proposals}
              onDone={() => choose({ place: chosen })}
            />
          ) : (
            <PlacePanel key={door?.label ?? chosen} target={target} url={site.data.url} />
          )}
        </div>
      </div>
    </>
  );
}
