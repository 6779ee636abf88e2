import { key } from "../parts/keys";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { EntryDetails } from "./EntryDetails";
import { EntryState } from "./EntryState";
import { ExportRing } from "./ExportRing";
import { NewEntryForm } from "./NewEntryForm";
import { getKeyrings, importEntries } from "./queries";
import { Import } from "../parts/Import";
import { Drawer } from "../parts/dialog";
import { ago, ends } from "../parts/format";
import { row, Table } from "../parts/table";
import { Broken, Heading, Loading } from "../parts/states";
import { plain } from "../parts/styles";
import type { Entry, Keyring } from "../schema";

// The credentials of HTTP Basic that belong to a place and not to an account.
export function KeyringsPage() {
  const list = useQuery({ queryKey: key("keyrings"), queryFn: getKeyrings });
  const [adding, setAdding] = useState<Keyring>();
  const [moving, setMoving] = useState<{ way: "Import" | "Export"; ring: string }>();
  const queries = useQueryClient();
  const [changing, setChanging] = useState<{ ring: Keyring; entry: Entry }>();
  return (
    <>
      <Heading title="Keyrings">
        Names and passwords for places where the browser's own dialog asks for them. Keyrings are declared in the policy; their names and
        passwords are managed here.
      </Heading>
      {list.isPending ? (
        <Loading what="the keyrings" />
      ) : list.error ? (
        <Broken what="keyrings" error={list.error} retry={() => list.refetch()} />
      ) : list.data.length === 0 ? (
        <p className="py-8 text-soft">
          The policy has no keyrings. <code>keyrings: {"{ outer: { realm: Office } }"}</code> adds one.
        </p>
      ) : (
        list.data.map((k) => (
          <section key={k.name} className="mb-10" aria-labelledby={`ring-${k.name}`}>
            <div className="mb-2 flex flex-wrap items-baseline justify-between gap-4">
              <h2 id={`ring-${k.name}`} className="text-lg font-bold">
                {k.name}{" "}
                <span className="text-base font-normal text-soft">{k.gone ? "is no longer in the policy" : `realm “${k.realm}”`}</span>
              </h2>
              <div className="flex flex-wrap gap-2">
                {k.entries.length > 0 && (
                  <button
                    type="button"
                    className={plain}
                    aria-label={`Export ${k.name}`}
                    onClick={() => setMoving({ way: "Export", ring: k.name })}
                  >
                    Export
                  </button>
                )}
                {!k.gone && (
                  <>
                    <button
                      type="button"
                      className={plain}
                      aria-label={`Import into ${k.name}`}
                      onClick={() => setMoving({ way: "Import", ring: k.name })}
                    >
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
              <p className="text-soft">No names yet, so nobody can get in.</p>
            ) : (
              <Table heads={["Name", "State", "Last used", "Until", "Hash", "Note"]}>
                {k.entries.map((e) => (
                  <tr key={e.name} className={row}>
                    <td className="py-2 pr-6">
                      <button
                        type="button"
                        className="cursor-pointer text-left font-bold underline decoration-line underline-offset-4 wrap-anywhere"
                        onClick={() => setChanging({ ring: k, entry: e })}
                      >
                        {e.name}
                      </button>
                    </td>
                    <td className="py-2 pr-6">
                      <EntryState entry={e} />
                    </td>
                    <td className="py-2 pr-6 whitespace-nowrap">{e.usedAt ? ago(e.usedAt) : <span className="text-soft">never</span>}</td>
                    <td className="py-2 pr-6 whitespace-nowrap">{e.until ? ends(e.until) : <span className="text-soft">–</span>}</td>
                    <td className="py-2 pr-6 whitespace-nowrap">
                      {e.kind}
                      {e.weak && <span className="block text-sm text-bad">weak until next use</span>}
                    </td>
                    <td className="py-2 text-soft wrap-anywhere">{e.note}</td>
                  </tr>
                ))}
              </Table>
            )}
          </section>
        ))
      )}
      <Drawer open={!!adding} title={`Add a name to ${adding?.name}`} onClose={() => setAdding(undefined)}>
        {adding && <NewEntryForm ring={adding.name} onDone={() => setAdding(undefined)} />}
      </Drawer>
      <Drawer
        open={!!moving}
        title={moving?.way === "Import" ? `Import into ${moving.ring}` : `Export ${moving?.ring}`}
        onClose={() => setMoving(undefined)}
      >
        {moving?.way === "Import" && (
          <Import
            what="names"
            hint={
              "An htpasswd file, one name and hash per line (bcrypt, SHA-256-crypt, SHA-512-crypt, apr1 or {SHA}). " +
              "Lines that can't be imported are listed with the reason."
            }
            example="smith:$2y$05$…"
            accept=".htpasswd,.txt,text/plain"
            strict={false}
            run={async (file, dry) => {
              const lines = await importEntries(moving.ring, file, dry);
              if (!dry) void queries.invalidateQueries({ queryKey: key("keyrings") });
              return lines;
            }}
            onDone={() => setMoving(undefined)}
          />
        )}
        {moving?.way === "Export" && <ExportRing ring={moving.ring} />}
      </Drawer>
      <Drawer
        open={!!changing}
        title={changing && `${changing.entry.name}, in ${changing.ring.name}`}
        onClose={() => setChanging(undefined)}
      >
        {changing && (
          <EntryDetails key={changing.entry.name} ring={changing.ring.name} entry={changing.entry} onGone={() => setChanging(undefined)} />
        )}
      </Drawer>
    </>
  );
}
