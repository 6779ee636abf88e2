import { Menu, MenuButton, MenuItem, MenuItems } from "@headlessui/react";
import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { api, exported, type Grant, type Person } from "../api";
import { Added, ago, Ask, Drawer, field, FormEnd, Pager, plain, primary, Secret, small, useSettled, when } from "../parts/controls";
import { Import } from "../parts/Import";
import { Broken, Heading, Loading } from "../parts/states";

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
  const [params, setParams] = useSearchParams();
  const [offset, setOffset] = useState(0);
  const [adding, setAdding] = useState(false);
  const [importing, setImporting] = useState(false);
  const queries = useQueryClient();
  const query = {
    search: params.get("search") ?? "",
    role: params.get("role") ?? "",
    state: params.get("state") ?? "",
    sort: params.get("sort") ?? "name",
    down: params.get("down") === "true",
  };
  const chosen = params.get("person") ?? undefined;
  const settled = useSettled({ ...query, offset }, 200);
  const doors = useQuery({ queryKey: ["doors"], queryFn: api.doors });
  const list = useQuery({ queryKey: ["people", settled], queryFn: () => api.people(settled), placeholderData: keepPreviousData });
  const set = (change: Partial<typeof query> & { person?: string }, keep = false) => {
    if (!keep) setOffset(0);
    const next = { ...query, person: chosen, ...change };
    setParams(
      Object.fromEntries(
        Object.entries(next)
          .filter(([key, v]) => v && !(key === "sort" && v === "name"))
          .map(([key, v]) => [key, String(v)]),
      ),
      { replace: true },
    );
  };
  return (
    <>
      <Heading title="People">Accounts, what they may do, and when they were last here. What is changed holds with the very next request.</Heading>
      <div className="mb-4 flex flex-wrap items-end gap-4">
        <label className="flex flex-col gap-1 text-sm text-soft">
          Search
          <input type="search" className={`${field} w-64`} value={query.search} placeholder="name, address, notes" onChange={(e) => set({ search: e.target.value })} />
        </label>
        <label className="flex flex-col gap-1 text-sm text-soft">
          Role
          <select className={field} value={query.role} onChange={(e) => set({ role: e.target.value })}>
            <option value="">any</option>
            {doors.data?.roles.map((r) => (
              <option key={r}>{r}</option>
            ))}
          </select>
        </label>
        <label className="flex flex-col gap-1 text-sm text-soft">
          State
          <select className={field} value={query.state} onChange={(e) => set({ state: e.target.value })}>
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
          <button type="button" className={primary} onClick={() => setAdding(true)}>
            Add an account
          </button>
        </div>
      </div>
      {list.isPending ? (
        <Loading what="the accounts" />
      ) : list.error ? (
        <Broken what="accounts" error={list.error} retry={() => list.refetch()} />
      ) : list.data.total === 0 ? (
        <p className="py-8 text-soft">{query.search || query.role || query.state ? "No account fits." : "There are no accounts yet."}</p>
      ) : (
        <>
          <div className="overflow-x-auto">
            <table className="w-full border-collapse text-left">
              <thead className="text-sm text-soft">
                <tr className="border-b border-line">
                  {columns.map((c) => (
                    <th key={c.label} className="py-2 pr-6 font-normal" aria-sort={query.sort === c.key ? (query.down ? "descending" : "ascending") : undefined}>
                      {c.key ? (
                        <button type="button" className="cursor-pointer hover:text-ink" onClick={() => set({ sort: c.key, down: query.sort === c.key && !query.down })}>
                          {c.label} <span aria-hidden="true">{query.sort === c.key ? (query.down ? "↓" : "↑") : ""}</span>
                        </button>
                      ) : (
                        c.label
                      )}
                    </th>
                  ))}
                </tr>
              </thead>
              <tbody>
                {list.data.people.map((p) => (
                  <tr key={p.name} className="border-b border-line align-top hover:bg-hover">
                    <td className="py-2 pr-6">
                      <button type="button" className="cursor-pointer text-left font-bold underline decoration-line underline-offset-4 wrap-anywhere" onClick={() => set({ person: p.name }, true)}>
                        {p.name}
                      </button>
                    </td>
                    <td className="py-2 pr-6 wrap-anywhere">{p.email ?? <span className="text-soft">–</span>}</td>
                    <td className="py-2 pr-6">{p.roles.length ? p.roles.join(", ") : <span className="text-soft">–</span>}</td>
                    <td className="py-2 pr-6 whitespace-nowrap">
                      <State person={p} />
                    </td>
                    <td className="py-2 pr-6 whitespace-nowrap">{p.lastSignIn ? <span title={when(p.lastSignIn)}>{ago(p.lastSignIn)}</span> : <span className="text-soft">never</span>}</td>
                    <td className="py-2 whitespace-nowrap">
                      {new Date(p.madeAt).toLocaleDateString(undefined, { dateStyle: "medium" })}
                      <span className="block text-sm text-soft">by {p.madeBy}</span>
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
          <Pager offset={offset} shown={list.data.people.length} total={list.data.total} onMove={setOffset} />
        </>
      )}
      <Drawer open={!!chosen} title={chosen} onClose={() => set({ person: undefined }, true)}>
        {chosen && <Details key={chosen} name={chosen} roles={doors.data?.roles ?? []} onGone={() => set({ person: undefined }, true)} onRenamed={(person) => set({ person }, true)} />}
      </Drawer>
      <Drawer open={importing} title="Import accounts" onClose={() => setImporting(false)}>
        {importing && (
          <Import
            what="accounts"
            hint="CSV with a head line, or JSON as Export writes it. Accounts that are new are added; of the others details are taken over and roles added. Nothing is taken away."
            example={"name,email,roles,notes\nbo,bo@marram.example,keeper;trustee@2027-03-31,"}
            accept=".csv,.json,text/csv,application/json"
            strict
            run={async (file, dry) => {
              const lines = await api.importPeople(file, dry);
              if (!dry) for (const key of ["person", "people", "sessions"]) void queries.invalidateQueries({ queryKey: [key] });
              return lines;
            }}
            onDone={() => setImporting(false)}
          />
        )}
      </Drawer>
      <Drawer open={adding} title="Add an account" onClose={() => setAdding(false)}>
        {adding && <Add roles={doors.data?.roles ?? []} onDone={() => setAdding(false)} />}
      </Drawer>
    </>
  );
}

function State({ person: p }: { person: Person }) {
  if (p.disabled) return <span className="font-bold text-bad">disabled</span>;
  if (p.noPassword) return <span className="text-ask">no password yet</span>;
  return <span className="text-good">enabled</span>;
}

function Details({ name, roles, onGone, onRenamed }: { name: string; roles: string[]; onGone: () => void; onRenamed: (name: string) => void }) {
  const queries = useQueryClient();
  const person = useQuery({ queryKey: ["person", name], queryFn: () => api.person(name) });
  const sessions = useQuery({ queryKey: ["sessions", "of", name], queryFn: () => api.sessions({ account: name, offset: 0 }) });
  const [asking, setAsking] = useState<"remove" | "disable">();
  const [secret, setSecret] = useState<{ label: string; text: string }>();
  const [done, setDone] = useState("");
  const act = useMutation({
    mutationFn: (what: () => Promise<string>) => what(),
    onSuccess: (said) => {
      setAsking(undefined);
      setDone(said);
      for (const key of ["person", "people", "sessions"]) void queries.invalidateQueries({ queryKey: [key] });
    },
  });
  const run = (what: () => Promise<string>) => {
    setDone("");
    act.mutate(what);
  };
  if (person.isPending) return <Loading what="the account" />;
  if (person.error) return <Broken what="account" error={person.error} retry={() => person.refetch()} />;
  const p = person.data;
  return (
    <div className="flex flex-col gap-7">
      <div>
        <State person={p} />
        <span className="text-soft">
          {" "}
          · made {when(p.madeAt)} by {p.madeBy} · {p.lastSignIn ? `last signed in ${ago(p.lastSignIn)}` : "never signed in"}
        </span>
      </div>
      <p role="status" className="-my-4 min-h-6 text-sm">
        {act.error ? <span className="text-bad">{act.error.message}</span> : <span className="text-good">{done}</span>}
      </p>
      <Edit
        person={p}
        onSave={(to) =>
          run(async () => {
            const edited = await api.editPerson(name, to);
            if (edited.name !== name) onRenamed(edited.name);
            return "Saved.";
          })
        }
      />
      <section>
        <h3 className="mb-2 font-bold">Roles</h3>
        <Grants grants={p.grants} onRevoke={(role) => run(() => api.revoke(name, role).then(() => `The role ${role} is taken back.`))} />
        <GrantForm roles={roles} onGrant={(g) => run(() => api.grant(name, g).then(() => `The role ${g.role} is granted.`))} />
      </section>
      <section>
        <h3 className="mb-2 font-bold">Password</h3>
        {secret && <Secret {...secret} />}
        <div className="mt-2 flex flex-wrap gap-2">
          <button
            type="button"
            className={plain}
            disabled={act.isPending || p.disabled}
            onClick={() =>
              run(async () => {
                const l = await api.link(name);
                setSecret({ label: `Give this link to ${name} only. It sets the password once, until ${when(l.until)}.`, text: location.origin + l.path });
                return "";
              })
            }
          >
            Make a link to set it
          </button>
          <button
            type="button"
            className={plain}
            disabled={act.isPending}
            onClick={() =>
              run(async () => {
                const { password } = await api.generate(5);
                await api.setPassword(name, password);
                setSecret({ label: "The new password, shown this once:", text: password });
                return "The password is set; all sessions have ended.";
              })
            }
          >
            Set a generated one
          </button>
        </div>
      </section>
      <section>
        <h3 className="mb-2 font-bold">Sessions</h3>
        <p className="mb-2 text-soft">
          {sessions.data ? (sessions.data.total === 0 ? "Not signed in anywhere." : `Signed in on ${sessions.data.total} ${sessions.data.total === 1 ? "device" : "devices"}. `) : " "}
          <Link className="underline" to={`/activity?account=${encodeURIComponent(name)}`}>
            What happened
          </Link>
        </p>
        <button type="button" className={plain} disabled={act.isPending || !sessions.data?.total} onClick={() => run(() => api.endSessionsOf(name).then((e) => `${e.ended} ended.`))}>
          End all sessions
        </button>
      </section>
      <section className="flex flex-wrap gap-2 border-t border-line pt-5">
        <button type="button" className={plain} disabled={act.isPending} onClick={() => (p.disabled ? run(() => api.setDisabled(name, false).then(() => "Enabled.")) : setAsking("disable"))}>
          {p.disabled ? "Enable" : "Disable"}
        </button>
        <button type="button" className={plain} disabled={act.isPending} onClick={() => setAsking("remove")}>
          Remove
        </button>
      </section>
      <Ask
        question={asking && (asking === "remove" ? `Remove ${name}?` : `Disable ${name}?`)}
        text={asking === "remove" ? "The account, its roles and its sessions are gone for good. What it did stays in the activity." : "All sessions end with the next request. The account can be enabled again."}
        yes={asking === "remove" ? "Remove it" : "Disable it"}
        busy={act.isPending}
        error={act.error}
        onYes={() =>
          asking === "remove"
            ? run(() =>
                api.removePerson(name).then(() => {
                  onGone();
                  return "";
                }),
              )
            : run(() => api.setDisabled(name, true).then(() => "Disabled; all sessions have ended."))
        }
        onNo={() => {
          act.reset();
          setAsking(undefined);
        }}
      />
    </div>
  );
}

function Edit({ person, onSave }: { person: Person; onSave: (to: { name?: string; email?: string; notes?: string }) => void }) {
  const start = { name: person.name, email: person.email ?? "", notes: person.notes ?? "" };
  const [to, setTo] = useState(start);
  const kept = JSON.stringify(start);
  useEffect(() => setTo(JSON.parse(kept)), [kept]);
  const changed = JSON.stringify(to) !== kept;
  return (
    <form
      className="flex flex-col gap-3"
      onSubmit={(e) => {
        e.preventDefault();
        onSave(to);
      }}
    >
      {(["name", "email"] as const).map((key) => (
        <label key={key} className="flex flex-col gap-1 text-sm text-soft">
          {key === "name" ? "Name" : "E-mail address"}
          <input className={`${field} text-base`} value={to[key]} onChange={(e) => setTo({ ...to, [key]: e.target.value })} autoComplete="off" spellCheck={false} />
        </label>
      ))}
      <label className="flex flex-col gap-1 text-sm text-soft">
        Notes, for stewards only
        <textarea className={`${field} text-base`} rows={2} value={to.notes} onChange={(e) => setTo({ ...to, notes: e.target.value })} maxLength={2000} />
      </label>
      <div>
        <button type="submit" className={plain} disabled={!changed}>
          Save
        </button>
      </div>
    </form>
  );
}

function Grants({ grants, onRevoke }: { grants: Grant[]; onRevoke: (role: string) => void }) {
  if (grants.length === 0) return <p className="text-soft">None.</p>;
  const now = Date.now();
  return (
    <ul>
      {grants.map((g) => {
        const state = new Date(g.from).getTime() > now ? `from ${when(g.from)}` : g.until && new Date(g.until).getTime() <= now ? "ended" : "";
        return (
          <li key={g.role} className="flex items-center justify-between gap-4 border-b border-line py-1.5">
            <span>
              <strong className={state ? "text-soft" : ""}>{g.role}</strong>{" "}
              <span className="text-sm text-soft">
                {state} {g.until ? `until ${when(g.until)}` : "without an end"}, by {g.by}
              </span>
            </span>
            <button type="button" className={small} onClick={() => onRevoke(g.role)} aria-label={`Take back the role ${g.role}`}>
              Take back
            </button>
          </li>
        );
      })}
    </ul>
  );
}

function GrantForm({ roles, onGrant }: { roles: string[]; onGrant: (g: { role: string; from?: string; until?: string }) => void }) {
  const [role, setRole] = useState("");
  const [from, setFrom] = useState("");
  const [until, setUntil] = useState("");
  return (
    <form
      className="mt-3 flex flex-wrap items-end gap-3"
      onSubmit={(e) => {
        e.preventDefault();
        onGrant({ role, from: from ? new Date(from).toISOString() : undefined, until: until ? new Date(until).toISOString() : undefined });
        setRole("");
      }}
    >
      <label className="flex flex-col gap-1 text-sm text-soft">
        Grant
        <select className={field} value={role} onChange={(e) => setRole(e.target.value)} required>
          <option value="">a role</option>
          {roles.map((r) => (
            <option key={r}>{r}</option>
          ))}
        </select>
      </label>
      <label className="flex flex-col gap-1 text-sm text-soft">
        from
        <input type="datetime-local" className={field} value={from} onChange={(e) => setFrom(e.target.value)} />
      </label>
      <label className="flex flex-col gap-1 text-sm text-soft">
        until
        <input type="datetime-local" className={field} value={until} onChange={(e) => setUntil(e.target.value)} />
      </label>
      <button type="submit" className={plain} disabled={!role}>
        Grant
      </button>
    </form>
  );
}

const words = { refused: "text-bad", weak: "text-bad", fair: "text-ask", good: "text-good", strong: "text-good" };

function Add({ roles, onDone }: { roles: string[]; onDone: () => void }) {
  const queries = useQueryClient();
  const [p, setP] = useState({ name: "", email: "", notes: "" });
  const [chosen, setChosen] = useState<string[]>([]);
  const [way, setWay] = useState<"link" | "generate" | "type">("link");
  const [password, setPassword] = useState("");
  const settled = useSettled({ password, name: p.name }, 250);
  const strength = useQuery({ queryKey: ["strength", settled], queryFn: () => api.estimate(settled.password, settled.name), enabled: way === "type" && settled.password !== "", placeholderData: keepPreviousData, gcTime: 0 });
  const add = useMutation({
    mutationFn: async () => {
      const secret = way === "generate" ? (await api.generate(5)).password : way === "type" ? password : "";
      await api.addPerson({ ...p, password: secret, roles: chosen });
      void queries.invalidateQueries({ queryKey: ["people"] });
      if (way === "generate") return { label: `The password of ${p.name}, shown this once:`, text: secret };
      if (way === "link") {
        const l = await api.link(p.name);
        return { label: `Give this link to ${p.name} only. It sets the password once, until ${when(l.until)}.`, text: location.origin + l.path };
      }
      return undefined;
    },
  });
  if (add.isSuccess) return <Added name={p.name} secret={add.data} onDone={onDone} />;
  return (
    <form
      className="flex flex-col gap-4"
      onSubmit={(e) => {
        e.preventDefault();
        add.mutate();
      }}
    >
      <label className="flex flex-col gap-1 text-sm text-soft">
        Name
        <input className={`${field} text-base`} value={p.name} onChange={(e) => setP({ ...p, name: e.target.value })} required autoComplete="off" spellCheck={false} data-autofocus />
      </label>
      <label className="flex flex-col gap-1 text-sm text-soft">
        E-mail address, if there is one
        <input type="email" className={`${field} text-base`} value={p.email} onChange={(e) => setP({ ...p, email: e.target.value })} autoComplete="off" />
      </label>
      <fieldset>
        <legend className="mb-1 text-sm text-soft">Roles</legend>
        <div className="flex flex-wrap gap-x-5 gap-y-1">
          {roles.map((r) => (
            <label key={r} className="flex items-center gap-2">
              <input type="checkbox" className="h-4 w-4 accent-brass" checked={chosen.includes(r)} onChange={(e) => setChosen(e.target.checked ? [...chosen, r] : chosen.filter((c) => c !== r))} /> {r}
            </label>
          ))}
        </div>
      </fieldset>
      <fieldset>
        <legend className="mb-1 text-sm text-soft">Password</legend>
        {(
          [
            ["link", "a link with which the person sets it, once"],
            ["generate", "generated, shown once"],
            ["type", "typed here"],
          ] as const
        ).map(([value, label]) => (
          <label key={value} className="flex items-center gap-2">
            <input type="radio" name="way" className="h-4 w-4 accent-brass" checked={way === value} onChange={() => setWay(value)} /> {label}
          </label>
        ))}
        {way === "type" && (
          <div className="mt-2">
            <input type="password" className={`${field} w-full`} aria-label="Password" value={password} onChange={(e) => setPassword(e.target.value)} autoComplete="new-password" required />
            <p className="mt-1 min-h-12 text-sm" role="status">
              {password && strength.data && (
                <>
                  <span className={`font-bold ${words[strength.data.word]}`}>{strength.data.word}</span> <span className="text-soft">{strength.data.advice ?? `about 2 to the power of ${Math.round(strength.data.bits)} guesses`}</span>
                </>
              )}
            </p>
          </div>
        )}
      </fieldset>
      <FormEnd yes="Add" busy={add.isPending} error={add.error} onNo={onDone} />
    </form>
  );
}
