import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Keyring, type RingEntry } from "../api";
import { Added, ago, Ask, Drawer, field, FormEnd, plain, primary, Secret, when } from "../parts/controls";
import { Import } from "../parts/Import";
import { Broken, Heading, Loading } from "../parts/states";

// The credentials of HTTP Basic that belong to a place and not to an account.
export function KeyringsPage() {
  const list = useQuery({ queryKey: ["keyrings"], queryFn: api.keyrings });
  const [adding, setAdding] = useState<Keyring>();
  const [moving, setMoving] = useState<{ way: "Import" | "Export"; ring: string }>();
  const queries = useQueryClient();
  const [changing, setChanging] = useState<{ ring: Keyring; entry: RingEntry }>();
  return (
    <>
      <Heading title="Keyrings">
        Names and passwords that the browser's own dialogue asks for, in front of a place. The keyrings are declared in the policy; what they
        hold is here.
      </Heading>
      {list.isPending ? (
        <Loading what="the keyrings" />
      ) : list.error ? (
        <Broken what="keyrings" error={list.error} retry={() => list.refetch()} />
      ) : list.data.length === 0 ? (
        <p className="py-8 text-soft">
          The policy has no keyrings. <code>keyrings: {"{ outer: { realm: Office } }"}</code> declares one.
        </p>
      ) : (
        list.data.map((k) => (
          <section key={k.name} className="mb-10" aria-labelledby={`ring-${k.name}`}>
            <div className="mb-2 flex flex-wrap items-baseline justify-between gap-4">
              <h2 id={`ring-${k.name}`} className="text-lg font-bold">
                {k.name} <span className="text-base font-normal text-soft">{k.gone ? "is in the policy no more" : `realm “${k.realm}”`}</span>
              </h2>
              <div className="flex flex-wrap gap-2">
                {k.entries.length > 0 && (
                  <button type="button" className={plain} aria-label={`Export ${k.name}`} onClick={() => setMoving({ way: "Export", ring: k.name })}>
                    Export
                  </button>
                )}
                {!k.gone && (
                  <>
                    <button type="button" className={plain} aria-label={`Import into ${k.name}`} onClick={() => setMoving({ way: "Import", ring: k.name })}>
                      Import
                    </button>
                    <button type="button" className={plain} onClick={() => setAdding(k)}>
                      Add a name to {k.name}
                    </button>
                  </>
                )}
              </div>
            </div>
            {k.entries.length === 0 ? (
              <p className="text-soft">Nobody has a key yet, so nobody gets in by it.</p>
            ) : (
              <div className="overflow-x-auto">
                <table className="w-full border-collapse text-left">
                  <thead className="text-sm text-soft">
                    <tr className="border-b border-line">
                      {["Name", "State", "Last used", "Until", "Hash", "Note"].map((h) => (
                        <th key={h} className="py-2 pr-6 font-normal">
                          {h}
                        </th>
                      ))}
                    </tr>
                  </thead>
                  <tbody>
                    {k.entries.map((e) => (
                      <tr key={e.name} className="border-b border-line align-top hover:bg-hover">
                        <td className="py-2 pr-6">
                          <button type="button" className="cursor-pointer text-left font-bold underline decoration-line underline-offset-4 wrap-anywhere" onClick={() => setChanging({ ring: k, entry: e })}>
                            {e.name}
                          </button>
                        </td>
                        <td className="py-2 pr-6">
                          <EntryState entry={e} />
                        </td>
                        <td className="py-2 pr-6 whitespace-nowrap">{e.usedAt ? ago(e.usedAt) : <span className="text-soft">never</span>}</td>
                        <td className="py-2 pr-6 whitespace-nowrap">{e.until ? when(e.until) : <span className="text-soft">–</span>}</td>
                        <td className="py-2 pr-6 whitespace-nowrap">
                          {e.kind}
                          {e.weak && <span className="block text-sm text-bad">weak, until it is next used</span>}
                        </td>
                        <td className="py-2 text-soft wrap-anywhere">{e.note}</td>
                      </tr>
                    ))}
                  </tbody>
                </table>
              </div>
            )}
          </section>
        ))
      )}
      <Drawer open={!!adding} title={`Add a name to ${adding?.name}`} onClose={() => setAdding(undefined)}>
        {adding && <Add ring={adding.name} onDone={() => setAdding(undefined)} />}
      </Drawer>
      <Drawer open={!!moving} title={moving?.way === "Import" ? `Import into ${moving.ring}` : `Export ${moving?.ring}`} onClose={() => setMoving(undefined)}>
        {moving?.way === "Import" && (
          <Import
            what="names"
            hint="An htpasswd file: a name and a hash in each line, of bcrypt, SHA-256-crypt, SHA-512-crypt, apr1 or {SHA}. Lines that cannot be taken are left out, each with the reason."
            example="smith:$2y$05$…"
            accept=".htpasswd,.txt,text/plain"
            strict={false}
            run={async (file, dry) => {
              const lines = await api.importEntries(moving.ring, file, dry);
              if (!dry) void queries.invalidateQueries({ queryKey: ["keyrings"] });
              return lines;
            }}
            onDone={() => setMoving(undefined)}
          />
        )}
        {moving?.way === "Export" && <Export ring={moving.ring} />}
      </Drawer>
      <Drawer open={!!changing} title={changing && `${changing.entry.name}, in ${changing.ring.name}`} onClose={() => setChanging(undefined)}>
        {changing && <Change key={changing.entry.name} ring={changing.ring.name} entry={changing.entry} onGone={() => setChanging(undefined)} />}
      </Drawer>
    </>
  );
}

// A keyring as an htpasswd file, and what such a file cannot hold.
function Export({ ring }: { ring: string }) {
  const file = useQuery({ queryKey: ["export", ring], queryFn: () => api.exportEntries(ring), gcTime: 0 });
  if (file.isPending) return <Loading what="the file" />;
  if (file.error) return <Broken what="file" error={file.error} retry={() => file.refetch()} />;
  const { file: text, left } = file.data;
  const count = text.split("\n").length - 1;
  return (
    <div className="flex flex-col gap-4">
      <p>
        {count === 0 ? "No name can be written to an htpasswd file." : `${count} ${count === 1 ? "name" : "names"} can be written, with ${count === 1 ? "its hash" : "their hashes"}. Keep the file as you would keep the passwords.`}
      </p>
      {count > 0 && (
        <div>
          <a className={`${primary} inline-block`} href={`data:text/plain;charset=utf-8,${encodeURIComponent(text)}`} download={`${ring}.htpasswd`}>
            Save {ring}.htpasswd
          </a>
        </div>
      )}
      {left.length > 0 && (
        <section>
          <h3 className="mb-1 font-bold">Left out</h3>
          <ul>
            {left.map((l) => (
              <li key={l.name} className="border-b border-line py-1.5">
                <strong className="wrap-anywhere">{l.name}</strong> <span className="text-soft">{l.detail}</span>
              </li>
            ))}
          </ul>
        </section>
      )}
    </div>
  );
}

function EntryState({ entry: e }: { entry: RingEntry }) {
  if (e.disabled) return <span className="font-bold text-bad">disabled</span>;
  if (e.until && new Date(e.until).getTime() <= Date.now()) return <span className="text-soft">ended</span>;
  if (e.oldUntil) return <span className="text-ask">two passwords until {when(e.oldUntil)}</span>;
  return <span className="text-good">enabled</span>;
}

function Add({ ring, onDone }: { ring: string; onDone: () => void }) {
  const queries = useQueryClient();
  const [e, setE] = useState({ name: "", note: "", until: "" });
  const add = useMutation({
    mutationFn: async () => {
      const { password } = await api.generate(0);
      await api.addEntry(ring, { name: e.name, password, note: e.note, until: e.until ? new Date(e.until).toISOString() : undefined });
      void queries.invalidateQueries({ queryKey: ["keyrings"] });
      const { bits } = await api.estimate(password, e.name);
      return { password, bits };
    },
  });
  if (add.isSuccess) {
    const label = `The password of ${e.name}, shown this once (strong: at least 2 to the power of ${Math.round(add.data.bits)} guesses):`;
    return <Added name={e.name} secret={{ label, text: add.data.password }} onDone={onDone} />;
  }
  return (
    <form
      className="flex flex-col gap-4"
      onSubmit={(event) => {
        event.preventDefault();
        add.mutate();
      }}
    >
      <label className="flex flex-col gap-1 text-sm text-soft">
        Name
        <input className={`${field} text-base`} value={e.name} onChange={(x) => setE({ ...e, name: x.target.value })} required autoComplete="off" spellCheck={false} data-autofocus />
      </label>
      <label className="flex flex-col gap-1 text-sm text-soft">
        For whom or what
        <input className={`${field} text-base`} value={e.note} onChange={(x) => setE({ ...e, note: x.target.value })} />
      </label>
      <label className="flex flex-col gap-1 text-sm text-soft">
        Until, if it is to end
        <input type="datetime-local" className={`${field} w-fit text-base`} value={e.until} onChange={(x) => setE({ ...e, until: x.target.value })} />
      </label>
      <p className="text-soft">The password is generated and shown once.</p>
      <FormEnd yes="Add" busy={add.isPending} error={add.error} onNo={onDone} />
    </form>
  );
}

function Change({ ring, entry: e, onGone }: { ring: string; entry: RingEntry; onGone: () => void }) {
  const queries = useQueryClient();
  const [grace, setGrace] = useState("86400");
  const [secret, setSecret] = useState("");
  const [asking, setAsking] = useState(false);
  const [disabled, setDisabled] = useState(e.disabled);
  const [done, setDone] = useState("");
  const act = useMutation({
    mutationFn: (what: () => Promise<string>) => what(),
    onSuccess: (said) => {
      setDone(said);
      void queries.invalidateQueries({ queryKey: ["keyrings"] });
    },
  });
  return (
    <div className="flex flex-col gap-6">
      <p className="text-soft">
        Made {when(e.madeAt)} by {e.madeBy}. {e.note}
      </p>
      <p role="status" className="-my-3 min-h-6 text-sm">
        {act.error ? <span className="text-bad">{act.error.message}</span> : <span className="text-good">{done}</span>}
      </p>
      <section className="flex flex-col gap-3">
        <h3 className="font-bold">Another password</h3>
        {secret && <Secret label="The new password, shown this once:" text={secret} />}
        <label className="flex items-center gap-2 text-soft">
          The one before counts
          <select className={field} value={grace} onChange={(x) => setGrace(x.target.value)}>
            <option value="0">no longer</option>
            <option value="3600">for another hour</option>
            <option value="86400">for another day</option>
            <option value="604800">for another week</option>
          </select>
        </label>
        <div>
          <button
            type="button"
            className={plain}
            disabled={act.isPending}
            onClick={() =>
              act.mutate(async () => {
                const { password } = await api.generate(0);
                await api.setEntryPassword(ring, e.name, password, Number(grace));
                setSecret(password);
                return "It has another password.";
              })
            }
          >
            Generate another
          </button>
        </div>
      </section>
      <section className="flex flex-wrap gap-2 border-t border-line pt-5">
        <button
          type="button"
          className={plain}
          disabled={act.isPending}
          onClick={() =>
            act.mutate(async () => {
              await api.setEntryDisabled(ring, e.name, !disabled);
              setDisabled(!disabled);
              return disabled ? "Enabled." : "Disabled: with the next request it opens nothing.";
            })
          }
        >
          {disabled ? "Enable" : "Disable"}
        </button>
        <button type="button" className={plain} onClick={() => setAsking(true)}>
          Remove
        </button>
      </section>
      <Ask
        question={asking ? `Remove ${e.name} from ${ring}?` : undefined}
        text="With the next request it opens nothing. There is no way back."
        yes="Remove it"
        busy={act.isPending}
        error={act.error}
        onYes={() =>
          act.mutate(async () => {
            await api.removeEntry(ring, e.name);
            onGone();
            return "";
          })
        }
        onNo={() => setAsking(false)}
      />
      <p className="text-sm text-soft">Changes hold at once, also for browsers that remember the old password.</p>
    </div>
  );
}
