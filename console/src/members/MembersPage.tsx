import { key } from "../parts/keys";
import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { getDoors } from "../doors/queries";
import { day, ends, when } from "../parts/format";
import { Chips, Listed, Search, shownAtOnce, useList } from "../parts/list";
import { Heading } from "../parts/states";
import { field } from "../parts/styles";
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
  const doors = useQuery({ queryKey: key("doors"), queryFn: getDoors });
  const list = useList("members", { view: "", role: "", search: "" }, ({ view, role, search }, offset?: number) => {
    const chosen = views.find((v) => v.view === view) ?? views[0];
    return listMembers({ ...chosen.query, role, search, offset: offset ?? 0, limit: shownAtOnce });
  });
  const { filter, set, found } = list;
  return (
    <>
      <Heading title="Members">Who has which role, from when until when, and from which order. The doors say what a role opens.</Heading>
      <Weeks role={list.settled.role} />
      <div className="mb-4 flex flex-wrap items-center gap-x-6 gap-y-3">
        <Chips
          label="Which"
          chosen={filter.view}
          of={views.map((v) => ({ value: v.view, label: v.label }))}
          onChoose={(view) => set({ view })}
        />
        <label className="flex items-center gap-2 text-soft">
          Role
          <select className={field} value={filter.role} onChange={(e) => set({ role: e.target.value })}>
            <option value="">any</option>
            {doors.data?.roles.map((r) => (
              <option key={r}>{r}</option>
            ))}
          </select>
        </label>
        <Search value={filter.search} placeholder="a name, an address" onChange={(search) => set({ search })} />
      </div>
      <Listed
        what="members"
        list={list}
        empty={(f) => f.members.length === 0}
        none={list.any ? "Nobody matches." : "Nobody has a role yet."}
      >
        {(f) => (
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
            {f.members.map((m) => (
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
      </Listed>
      <Pager
        offset={list.at ?? 0}
        shown={found.data?.members.length ?? 0}
        total={found.data?.total ?? 0}
        counted={filter.search ? 5000 : undefined}
        onMove={(to) => list.go(to || undefined)}
      />
    </>
  );
}
