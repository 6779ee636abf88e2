import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { getDoors } from "../doors/queries";
import { day, ends, when } from "../parts/format";
import { useSettled } from "../parts/hooks";
import { Broken, Heading, Loading } from "../parts/states";
import { field, small } from "../parts/styles";
import { Pager, row, Table } from "../parts/table";
import { listMembers } from "./queries";
import { Weeks } from "./Weeks";

const month = 30 * 86_400;

// Which members are shown, in words.
const views = [
  { view: "", label: "all now", query: {} },
  { view: "ending", label: "end within 30 days", query: { ending: String(month), sort: "until" } },
  { view: "past", label: "have ended", query: { past: "true" } },
] as const;

// Who has which role, since when, until when, and from which order.
export function MembersPage() {
  const [params, setParams] = useSearchParams();
  const filter = { view: "", role: "", search: "", ...Object.fromEntries(params) };
  const settled = useSettled(filter, 200);
  const [offset, setOffset] = useState(0);
  const doors = useQuery({ queryKey: ["doors"], queryFn: getDoors });
  const view = views.find((v) => v.view === settled.view) ?? views[0];
  const list = useQuery({
    queryKey: ["members", "list", view.view, settled.role, settled.search, offset],
    queryFn: () => listMembers({ ...view.query, role: settled.role, search: settled.search, offset, limit: 50 }),
    placeholderData: keepPreviousData,
  });
  const set = (change: Record<string, string>) => {
    setOffset(0);
    setParams(Object.fromEntries(Object.entries({ ...filter, ...change }).filter(([, v]) => v)), { replace: true });
  };
  return (
    <>
      <Heading title="Members">
        Who has which role, since when, until when, and from which order. What a role opens is said by the doors that ask for it.
      </Heading>
      <Weeks role={settled.role} />
      <div className="mb-4 flex flex-wrap items-center gap-x-6 gap-y-3">
        <div role="group" aria-label="Which" className="flex flex-wrap gap-1">
          {views.map((v) => (
            <button
              key={v.view}
              type="button"
              className={`${small} ${filter.view === v.view ? "bg-hover font-bold" : ""}`}
              aria-pressed={filter.view === v.view}
              onClick={() => set({ view: v.view })}
            >
              {v.label}
            </button>
          ))}
        </div>
        <label className="flex items-center gap-2 text-soft">
          Role
          <select className={field} value={filter.role} onChange={(e) => set({ role: e.target.value })}>
            <option value="">any</option>
            {doors.data?.roles.map((r) => (
              <option key={r}>{r}</option>
            ))}
          </select>
        </label>
        <label className="flex items-center gap-2 text-soft">
          Search
          <input
            type="search"
            className={`${field} w-64 max-w-full`}
            value={filter.search}
            placeholder="a name, an address"
            onChange={(e) => set({ search: e.target.value })}
          />
        </label>
      </div>
      {list.isPending ? (
        <Loading what="the members" />
      ) : list.error ? (
        <Broken what="members" error={list.error} retry={() => list.refetch()} />
      ) : list.data.members.length === 0 ? (
        <p className="py-8 text-soft">{settled.view || settled.role || settled.search ? "Nobody fits." : "Nobody has a role yet."}</p>
      ) : (
        <Table
          heads={[
            "Name",
            "Role",
            { label: "Since", className: "max-md:hidden" },
            "Until",
            { label: "By", className: "max-md:hidden" },
            { label: "Joined", className: "max-md:hidden" },
          ]}
        >
          {list.data.members.map((m) => (
            <tr key={`${m.account}\n${m.role}\n${m.by}`} className={row}>
              <td className="py-2 pr-6 wrap-anywhere">
                <Link className="font-bold underline-offset-2 hover:underline" to={`/people?person=${encodeURIComponent(m.account)}`}>
                  {m.account}
                </Link>
                {m.disabled && <span className="text-bad"> disabled</span>}
                {m.email && <span className="block text-sm text-soft">{m.email}</span>}
              </td>
              <td className="py-2 pr-6">{m.role}</td>
              <td className="py-2 pr-6 whitespace-nowrap max-md:hidden" title={when(m.since)}>
                {day(m.since)}
              </td>
              <td className="py-2 pr-6 whitespace-nowrap" title={m.until && when(m.until)}>
                {m.until ? ends(m.until) : <span className="text-soft">no end</span>}
              </td>
              <td className="py-2 pr-6 max-md:hidden">
                {m.by}
                {m.order && (
                  <Link
                    className="block text-sm text-soft underline-offset-2 hover:underline"
                    to={`/events?search=${encodeURIComponent(m.order)}`}
                  >
                    order {m.order}
                  </Link>
                )}
              </td>
              <td className="py-2 pr-6 max-md:hidden">{m.joined}</td>
            </tr>
          ))}
        </Table>
      )}
      <Pager
        offset={offset}
        shown={list.data?.members.length ?? 0}
        total={list.data?.total ?? 0}
        counted={filter.search ? 5000 : undefined}
        onMove={setOffset}
      />
    </>
  );
}
