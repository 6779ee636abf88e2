import { key } from "../parts/keys";
import { Tab, TabGroup, TabList, TabPanel, TabPanels } from "@headlessui/react";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { DoorTable } from "./DoorTable";
import { Tree } from "./Tree";
import { getDoors, getUpstreams } from "./queries";
import { Broken, Heading, Loading } from "../parts/states";
import type { Door } from "../schema";

export function DoorsPage() {
  const doors = useQuery({ queryKey: key("doors"), queryFn: getDoors, refetchInterval: 15_000 });
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
        Who may go where, from <code>{data.file}</code>. The most specific door decides; the order in the file doesn't matter. Places
        without a door are set to <strong>{data.unlisted}</strong>.
      </Heading>
      <TabGroup>
        <div className="mb-4 flex flex-wrap items-end gap-x-6 gap-y-3">
          <TabList className="flex rounded border border-line bg-sheet">
            {["In file order", "As a tree of the site"].map((label) => (
              <Tab
                key={label}
                className="cursor-pointer px-4 py-1.5 first:rounded-l last:rounded-r data-hover:bg-hover data-selected:bg-hover
                  data-selected:font-bold"
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
          <TabPanel>{shown.length === 0 ? <p className="py-8 text-soft">No door matches.</p> : <DoorTable doors={shown} />}</TabPanel>
          <TabPanel>
            <Tree doors={shown} unlisted={data.unlisted} />
          </TabPanel>
        </TabPanels>
      </TabGroup>
      {data.checks.length > 0 && (
        <>
          <h2 className="mt-12 mb-1 text-lg font-bold">Checks in the application</h2>
          <p className="mb-3 max-w-3xl text-soft">
            The application that embeds Ostiarius runs these checks in its own handlers. They apply in addition to the doors: a check can
            only restrict access.
          </p>
          <DoorTable doors={data.checks} kind="check" />
        </>
      )}
      <Behind sources={data.sources} />
      <h2 className="mt-12 mb-1 text-lg font-bold">Built in</h2>
      <p className="mb-3 max-w-3xl text-soft">
        Ostiarius's own pages are below <code>{data.prefix}</code>. No policy can close the sign-in page or open this console.
      </p>
      <DoorTable doors={data.builtIn} kind="builtIn" />
    </>
  );
}

// What stands behind the doors, and how the servers there are.
function Behind({ sources }: { sources: { path: string; host?: string; files?: string; proxy?: string }[] }) {
  const upstreams = useQuery({ queryKey: key("upstreams"), queryFn: getUpstreams, refetchInterval: 10_000 });
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
              <span>
                {s.files ? (
                  <>
                    files in <code>{s.files}</code>
                  </>
                ) : (
                  <>
                    the server at <code>{s.proxy}</code>
                  </>
                )}
              </span>
              {s.proxy && u && (
                <span className={u.inARow > 0 ? "text-bad" : u.answered ? "text-good" : "text-soft"}>
                  {u.inARow > 0
                    ? `did not answer ${u.inARow} ${u.inARow === 1 ? "time" : "times"} in a row`
                    : u.answered
                      ? "answers"
                      : "not asked yet"}
                </span>
              )}
            </li>
          );
        })}
      </ul>
    </>
  );
}
