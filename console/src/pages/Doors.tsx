import { Tab, TabGroup, TabList, TabPanel, TabPanels } from "@headlessui/react";
import { useQuery } from "@tanstack/react-query";
import { Fragment, useMemo, useState } from "react";
import { Link } from "react-router";
import { api, type Door } from "../api";
import { branchesOf, doorsOf, siteTree, type Branch } from "../tree";
import { Broken, Heading, Loading } from "../parts/states";

export function DoorsPage() {
  const doors = useQuery({ queryKey: ["doors"], queryFn: api.doors, refetchInterval: 15_000 });
  const [words, setWords] = useState("");

  if (doors.isPending) return <Loading what="the doors" />;
  if (doors.error) return <Broken what="doors" error={doors.error} retry={() => doors.refetch()} />;

  const { data } = doors;
  const wanted = words.toLowerCase().split(/\s+/).filter(Boolean);
  const fits = (d: Door) => {
    const text = `${d.path} ${d.host ?? ""} ${d.methods.join(" ")} ${d.admit} ${d.refused ?? ""}`.toLowerCase();
    return wanted.every((w) => text.includes(w));
  };
  const shown = data.doors.filter(fits);

  return (
    <>
      <Heading title="Doors">
        Who may go where, from <code>{data.file}</code>. The most specific door decides, wherever it stands in the file. What no
        door covers is <strong>{data.unlisted}</strong>.
      </Heading>
      <TabGroup>
        <div className="mb-4 flex flex-wrap items-end gap-x-6 gap-y-3">
          <TabList className="flex rounded border border-line bg-sheet">
            {["In file order", "As a tree of the site"].map((label) => (
              <Tab
                key={label}
                className="cursor-pointer px-4 py-1.5 first:rounded-l last:rounded-r data-hover:bg-hover data-selected:bg-hover data-selected:font-bold"
              >
                {label}
              </Tab>
            ))}
          </TabList>
          <label className="flex grow items-center gap-2 text-soft">
            Filter
            <input
              type="search"
              value={words}
              onChange={(e) => setWords(e.target.value)}
              placeholder="a path, a role, a method"
              className="w-full max-w-72 rounded border border-line bg-sheet px-3 py-1.5 text-ink placeholder:text-soft"
            />
          </label>
          <p className="text-sm text-soft" role="status">
            {wanted.length > 0 ? `${shown.length} of ${data.doors.length} doors` : `${data.doors.length} doors`}
          </p>
        </div>
        <TabPanels>
          <TabPanel>
            {shown.length === 0 ? <p className="py-8 text-soft">No door has all of these words.</p> : <DoorTable doors={shown} />}
          </TabPanel>
          <TabPanel>
            <Tree doors={shown} unlisted={data.unlisted} />
          </TabPanel>
        </TabPanels>
      </TabGroup>
      <Behind sources={data.sources} />
      <h2 className="mt-12 mb-1 text-lg font-bold">Built in</h2>
      <p className="mb-3 max-w-3xl text-soft">
        Ostiarius's own pages live below <code>{data.prefix}</code>. No policy can close the sign-in page or open this console.
      </p>
      <DoorTable doors={data.builtIn} builtIn />
    </>
  );
}

// What stands behind the doors, and how the servers there are.
function Behind({ sources }: { sources: { path: string; host?: string; files?: string; proxy?: string }[] }) {
  const upstreams = useQuery({ queryKey: ["upstreams"], queryFn: api.upstreams, refetchInterval: 10_000 });
  if (sources.length === 0) return null;
  return (
    <>
      <h2 className="mt-12 mb-2 text-lg font-bold">Behind the doors</h2>
      <ul>
        {sources.map((s) => {
          const u = upstreams.data?.find((up) => up.address === s.proxy);
          return (
            <li key={`${s.host} ${s.path}`} className="flex flex-wrap gap-x-4 border-b border-line py-1.5">
              <code className="min-w-40">
                {s.host}
                {s.path}
              </code>
              <span>{s.files ? <>files in <code>{s.files}</code></> : <>the server at <code>{s.proxy}</code></>}</span>
              {s.proxy && u && (
                <span className={u.inARow > 0 ? "text-bad" : u.answered ? "text-good" : "text-soft"}>
                  {u.inARow > 0 ? `did not answer ${u.inARow} ${u.inARow === 1 ? "time" : "times"} in a row` : u.answered ? "answers" : "not asked yet"}
                </span>
              )}
            </li>
          );
        })}
      </ul>
    </>
  );
}

const step = 300;

function DoorTable({ doors, builtIn }: { doors: Door[]; builtIn?: boolean }) {
  const [limit, setLimit] = useState(step);
  const [open, setOpen] = useState<number>();
  return (
    <div className="overflow-x-auto">
      <table className="w-full border-collapse text-left">
        <thead className="text-sm text-soft">
          <tr className="border-b border-line">
            {!builtIn && <th className="w-16 py-2 pr-4 text-right font-normal">Line</th>}
            <th className="py-2 pr-6 font-normal">Path</th>
            <th className="py-2 pr-6 font-normal">Methods</th>
            <th className="py-2 pr-6 font-normal">Admits</th>
            <th className="py-2 pr-6 font-normal">Otherwise</th>
            <th className="w-14 py-2">
              <span className="sr-only">Try</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {doors.slice(0, limit).map((d) => (
            <Fragment key={d.id}>
            <tr className="border-b border-line align-top hover:bg-hover">
              {!builtIn && (
                <td className="py-2 pr-4 text-right text-soft">
                  <button
                    type="button"
                    aria-expanded={open === d.id}
                    aria-label={`Line ${d.line}: how ${d.path} lies to other doors`}
                    className="cursor-pointer whitespace-nowrap hover:text-ink"
                    onClick={() => setOpen(open === d.id ? undefined : d.id)}
                  >
                    <span aria-hidden="true">{open === d.id ? "▾" : "▸"}</span> {d.line}
                  </button>
                </td>
              )}
              <td className="py-2 pr-6">
                <Where door={d} />
              </td>
              <td className="py-2 pr-6">{d.methods.length ? d.methods.join(", ") : <span className="text-soft">any</span>}</td>
              <td className="py-2 pr-6">
                <Admits door={d} />
              </td>
              <td className="py-2 pr-6 text-sm">
                <Otherwise door={d} />
              </td>
              <td className="py-2 text-right">
                <TryLink door={d} />
              </td>
            </tr>
            {open === d.id && (
              <tr className="border-b border-line">
                <td />
                <td colSpan={5} className="py-3 pr-6">
                  <Neighbours door={d} />
                </td>
              </tr>
            )}
            </Fragment>
          ))}
        </tbody>
      </table>
      {doors.length > limit && (
        <button type="button" className="mt-3 cursor-pointer underline" onClick={() => setLimit(limit + step)}>
          Show {Math.min(step, doors.length - limit)} more of {doors.length - limit}
        </button>
      )}
    </div>
  );
}

// Why this door decides and not another: how it lies to the others.
function Neighbours({ door }: { door: Door }) {
  const found = useQuery({ queryKey: ["relations", door.id, door.path, door.line], queryFn: () => api.relations(door.id) });
  if (found.isPending) return <p className="text-soft">Comparing with the other doors …</p>;
  if (found.error) return <Broken what="other doors" error={found.error} retry={() => found.refetch()} />;
  const { wider, narrower, crossing } = found.data;
  if (wider.length + narrower.length + crossing.length === 0)
    return <p className="text-soft">It has no place in common with another door: where it covers a place, it alone decides.</p>;
  const group = (title: string, why: string, doors: { door: Door; example?: string }[]) =>
    doors.length > 0 && (
      <section className="max-w-4xl">
        <h3 className="font-bold">
          {title} <span className="font-normal text-soft">{why}</span>
        </h3>
        <ul>
          {doors.slice(0, 12).map(({ door: d, example }) => (
            <li key={d.id}>
              <span className="inline-block w-16 text-soft">line {d.line}</span> <Where door={d} />{" "}
              {d.methods.length > 0 && <span className="text-sm">{d.methods.join(", ")} </span>}
              <span className="text-soft">admits</span> <code>{d.admit}</code>
              {example && (
                <span className="text-soft">
                  , both cover <code>{example}</code>
                </span>
              )}
            </li>
          ))}
          {doors.length > 12 && <li className="text-soft">and {doors.length - 12} more</li>}
        </ul>
      </section>
    );
  return (
    <div className="flex flex-col gap-3">
      {group("Decides before", "all that it covers is part of them", wider.map((d) => ({ door: d })))}
      {group("Gives way to", "they cover a part of it", narrower.map((d) => ({ door: d })))}
      {group("Crosses", "where both cover a place, both must admit", crossing)}
    </div>
  );
}

function Where({ door }: { door: Door }) {
  return (
    <code>
      {door.host && <span className="text-soft">{door.host}</span>}
      {door.path}
    </code>
  );
}

function Admits({ door }: { door: Door }) {
  return (
    <span title={door.asks}>
      <code className={door.admit === "public" ? "text-good" : ""}>{door.admit}</code>
      {door.basic && <span className="ml-2 text-sm text-soft">asked for with HTTP Basic</span>}
    </span>
  );
}

function Otherwise({ door }: { door: Door }) {
  if (!door.anonymous && !door.refused) return <span className="text-soft">–</span>;
  if (door.anonymous === door.refused) return <code>{door.refused}</code>;
  return (
    <>
      {door.anonymous && (
        <div>
          <span className="text-soft">anonymous</span> {door.anonymous}
        </div>
      )}
      {door.refused && (
        <div>
          <span className="text-soft">refused</span> {door.refused}
        </div>
      )}
    </>
  );
}

function TryLink({ door }: { door: Door }) {
  const address = (door.host ? `http://${door.host.replace("*", "any")}` : "") + door.path.replace(/\/\*\*/g, "/").replace(/\*/g, "x").replace(/\/{2,}/g, "/");
  const query = new URLSearchParams({ method: door.methods[0] ?? "GET", url: address });
  return (
    <Link className="text-brass underline" to={`/try?${query}`} aria-label={`Try ${door.path}`}>
      Try
    </Link>
  );
}

function Tree({ doors, unlisted }: { doors: Door[]; unlisted: string }) {
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
