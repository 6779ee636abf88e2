import { key } from "../parts/keys";
import { Menu, MenuButton, MenuItem, MenuItems } from "@headlessui/react";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { getDoors } from "../doors/queries";
import { InviteForm } from "../joining/InviteForm";
import { getJoining } from "../joining/queries";
import { Waiting } from "../joining/Waiting";
import { listMessages } from "../messages/queries";
import { Import } from "../parts/Import";
import { Drawer } from "../parts/dialog";
import { ago, when, day } from "../parts/format";
import { Listed, useList } from "../parts/list";
import { Heading } from "../parts/states";
import { field, plain, primary } from "../parts/styles";
import { Pager, row, Table } from "../parts/table";
import { NewPersonForm } from "./NewPersonForm";
import { PersonDetails } from "./PersonDetails";
import { PersonState } from "./PersonState";
import { exported, importPeople, listPeople } from "./queries";

const columns = [
  { key: "name", label: "Name" },
  { key: "email", label: "E-mail" },
  { key: "", label: "Roles" },
  { key: "", label: "State" },
  { key: "signed-in", label: "Last sign-in" },
  { key: "made", label: "Made" },
];

// All accounts: found, sorted, and each with what can be done about it.
export function PeoplePage() {
  const [params] = useSearchParams();
  const [adding, setAdding] = useState(false);
  const [importing, setImporting] = useState(false);
  const [inviting, setInviting] = useState(false);
  const queries = useQueryClient();
  const list = useList("people", { search: "", role: "", state: "", sort: "", down: "" }, (looked, offset: number | undefined) =>
    listPeople({ ...looked, down: looked.down === "true", offset }),
  );
  const { filter, set } = list;
  const sorted = { by: filter.sort || "name", down: filter.down === "true" };
  const chosen = params.get("person") ?? undefined;
  const doors = useQuery({ queryKey: key("doors"), queryFn: getDoors });
  const joining = useQuery({ queryKey: key("joining"), queryFn: getJoining, refetchInterval: 5_000 });
  const mail = useQuery({ queryKey: key("messages", "server"), queryFn: () => listMessages({ limit: 1 }), enabled: inviting });
  return (
    <>
      <Heading title="People">Accounts, their roles, and when they last signed in. Changes take effect immediately.</Heading>
      <div className="mb-4 flex flex-wrap items-end gap-4">
        <label className="flex flex-col gap-1 text-sm text-soft">
          Search
          <input
            type="search"
            className={`${field} w-64`}
            value={filter.search}
            placeholder="name, address, notes"
            onChange={(e) => set({ search: e.target.value })}
          />
        </label>
        <label className="flex flex-col gap-1 text-sm text-soft">
          Role
          <select className={field} value={filter.role} onChange={(e) => set({ role: e.target.value })}>
            <option value="">any</option>
            {doors.data?.roles.map((r) => (
              <option key={r}>{r}</option>
            ))}
          </select>
        </label>
        <label className="flex flex-col gap-1 text-sm text-soft">
          State
          <select className={field} value={filter.state} onChange={(e) => set({ state: e.target.value })}>
            <option value="">any</option>
            <option value="enabled">enabled</option>
            <option value="disabled">disabled</option>
            <option value="never">never signed in</option>
          </select>
        </label>
        <div className="ml-auto flex flex-wrap gap-2">
          <Menu>
            <MenuButton className={plain}>Export</MenuButton>
            <MenuItems anchor="bottom end" className="z-20 mt-1 rounded border border-line bg-sheet py-1 shadow-lg">
              {Object.entries(exported).map(([form, address]) => (
                <MenuItem key={form}>
                  <a href={address} download className="block px-4 py-1.5 data-focus:bg-hover">
                    as {form}
                  </a>
                </MenuItem>
              ))}
            </MenuItems>
          </Menu>
          <button type="button" className={plain} onClick={() => setImporting(true)}>
            Import
          </button>
          {joining.data && joining.data.by !== "nobody" && (
            <button type="button" className={plain} onClick={() => setInviting(true)}>
              Invite someone
            </button>
          )}
          <button type="button" className={primary} onClick={() => setAdding(true)}>
            Add an account
          </button>
        </div>
      </div>
      {joining.data && <Waiting joining={joining.data} />}
      <Listed
        what="accounts"
        list={list}
        empty={(found) => found.total === 0}
        none={filter.search || filter.role || filter.state ? "No account matches." : "There are no accounts yet."}
      >
        {(found) => (
          <>
            <Table
              heads={columns.map((c) =>
                c.key
                  ? {
                      sort: sorted.by === c.key ? (sorted.down ? "descending" : "ascending") : "none",
                      label: (
                        <button
                          type="button"
                          className="cursor-pointer hover:text-ink"
                          onClick={() => set({ sort: c.key, down: sorted.by === c.key && !sorted.down ? "true" : "" })}
                        >
                          {c.label} <span aria-hidden="true">{sorted.by === c.key ? (sorted.down ? "↓" : "↑") : ""}</span>
                        </button>
                      ),
                    }
                  : c.label,
              )}
            >
              {found.people.map((p) => (
                <tr key={p.name} className={row}>
                  <td className="py-2 pr-6">
                    <button
                      type="button"
                      className="cursor-pointer text-left font-bold underline decoration-line underline-offset-4 wrap-anywhere"
                      onClick={() => set({ person: p.name })}
                    >
                      {p.name}
                    </button>
                  </td>
                  <td className="py-2 pr-6 wrap-anywhere">{p.email ?? <span className="text-soft">–</span>}</td>
                  <td className="py-2 pr-6">{p.roles.length ? p.roles.join(", ") : <span className="text-soft">–</span>}</td>
                  <td className="py-2 pr-6 whitespace-nowrap">
                    <PersonState person={p} />
                  </td>
                  <td className="py-2 pr-6 whitespace-nowrap">
                    {p.lastSignIn ? <span title={when(p.lastSignIn)}>{ago(p.lastSignIn)}</span> : <span className="text-soft">never</span>}
                  </td>
                  <td className="py-2 whitespace-nowrap">
                    {day(p.madeAt)}
                    <span className="block text-sm text-soft">by {p.madeBy}</span>
                  </td>
                </tr>
              ))}
            </Table>
            <Pager offset={list.at ?? 0} shown={found.people.length} total={found.total} onMove={list.go} />
          </>
        )}
      </Listed>
      <Drawer open={!!chosen} title={chosen} onClose={() => set({ person: "" })}>
        {chosen && (
          <PersonDetails
            key={chosen}
            name={chosen}
            roles={doors.data?.roles ?? []}
            onGone={() => set({ person: "" })}
            onRenamed={(person) => set({ person })}
          />
        )}
      </Drawer>
      <Drawer open={importing} title="Import accounts" onClose={() => setImporting(false)}>
        {importing && (
          <Import
            what="accounts"
            hint={
              "CSV with a header row, or a JSON export. New accounts are added. For existing ones, details are " +
              "updated and roles added. Nothing is removed."
            }
            example={"name,email,roles,notes\nbo,bo@marram.example,keeper;trustee@2027-03-31,"}
            accept=".csv,.json,text/csv,application/json"
            strict
            run={async (file, dry) => {
              const lines = await importPeople(file, dry);
              if (!dry)
                for (const name of ["person", "people", "sessions"] as const) void queries.invalidateQueries({ queryKey: key(name) });
              return lines;
            }}
            onDone={() => setImporting(false)}
          />
        )}
      </Drawer>
      <Drawer open={inviting} title="Invite someone" onClose={() => setInviting(false)}>
        {inviting && mail.data && (
          <InviteForm roles={doors.data?.roles ?? []} sends={!!mail.data.server} onDone={() => setInviting(false)} />
        )}
      </Drawer>
      <Drawer open={adding} title="Add an account" onClose={() => setAdding(false)}>
        {adding && <NewPersonForm roles={doors.data?.roles ?? []} onDone={() => setAdding(false)} />}
      </Drawer>
    </>
  );
}
