import { key } from "../parts/keys";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { Drawer } from "../parts/dialog";
import { Import } from "../parts/Import";
import { Chips, Listed, Parts, Search, useList } from "../parts/list";
import { Broken, Heading } from "../parts/states";
import { field, plain, primary } from "../parts/styles";
import { row, Table } from "../parts/table";
import type { Pass } from "../schema";
import { IssueForm } from "./IssueForm";
import { PassDetails } from "./PassDetails";
import { downloads, passEnd, PassState, stateText } from "./PassState";
import { getPassKinds, importPasses, listPasses } from "./queries";
import { RotateForm } from "./RotateForm";

const states: Pass["state"][] = ["waiting", "open", "used-up", "ended", "paused", "revoked"];

// Access that was issued to one recipient each.
export function PassesPage() {
  const [params] = useSearchParams();
  const list = useList("passes", { kind: "", state: "", search: "" }, (filter, after?: string) => listPasses({ ...filter, after }));
  const { filter, set, found } = list;
  const [doing, setDoing] = useState<"issue" | "import" | "rotate">();
  const open = params.get("pass") ?? "";
  const queries = useQueryClient();
  const kinds = useQuery({ queryKey: key("passes", "kinds"), queryFn: getPassKinds });
  const declared = kinds.data?.filter((k) => !k.gone) ?? [];
  const count = (state: string) =>
    kinds.data?.filter((k) => !filter.kind || k.name === filter.kind).reduce((sum, k) => sum + (k.counts[state] ?? 0), 0);
  const close = () => setDoing(undefined);
  const [importing, setImporting] = useState("");
  const kind = importing || declared[0]?.name || "";
  return (
    <>
      <Heading title="Passes">
        Each pass gives one recipient access: with a link, or with a name and password for download programs. A pass ends automatically,
        counts downloads, and can be revoked.
      </Heading>
      {kinds.error ? (
        <Broken what="kinds of pass" error={kinds.error} retry={() => kinds.refetch()} />
      ) : kinds.data?.length === 0 ? (
        <p className="py-8 text-soft">
          The policy has no kinds of pass. <code>passes: {"{ recordings: { title: Sound recordings, lasts: 14d } }"}</code> adds one. You
          can also protect a place with a pass on the Site page.
        </p>
      ) : (
        <>
          <div className="mb-5 flex min-h-9 flex-wrap gap-2">
            {declared.length > 0 && (
              <>
                <button type="button" className={primary} onClick={() => setDoing("issue")}>
                  Issue a pass
                </button>
                <button type="button" className={plain} onClick={() => setDoing("import")}>
                  Issue from a list
                </button>
                <button type="button" className={plain} onClick={() => setDoing("rotate")}>
                  Replace all of a kind
                </button>
              </>
            )}
          </div>
          <div className="mb-4 flex flex-wrap items-center gap-x-6 gap-y-3">
            <Chips
              label="State"
              chosen={filter.state}
              of={["" as const, ...states].map((s) => ({ value: s, label: s ? stateText(s) : "all", count: s ? count(s) : undefined }))}
              onChoose={(state) => set({ state })}
            />
            {(kinds.data?.length ?? 0) > 1 && (
              <label className="flex items-center gap-2 text-soft">
                Kind
                <select className={field} value={filter.kind} onChange={(e) => set({ kind: e.target.value })}>
                  <option value="">any</option>
                  {kinds.data?.map((k) => (
                    <option key={k.name}>{k.name}</option>
                  ))}
                </select>
              </label>
            )}
            <Search value={filter.search} placeholder="a name, an address, a reference" onChange={(search) => set({ search })} />
          </div>
          <Listed what="passes" list={list} empty={(f) => f.passes.length === 0} none={list.any ? "No pass matches." : "No passes yet."}>
            {(f) => (
              <Table
                heads={[
                  "Recipient",
                  "State",
                  { label: "Downloads", className: "max-md:hidden" },
                  { label: "Until", className: "max-md:hidden" },
                  { label: "Kind", className: "max-md:hidden" },
                  { label: "Reference", className: "max-md:hidden" },
                ]}
              >
                {f.passes.map((p) => (
                  <tr key={p.id} className={row}>
                    <td className="py-2 pr-6 wrap-anywhere">
                      <button
                        type="button"
                        className="cursor-pointer text-left font-bold underline decoration-line underline-offset-4"
                        onClick={() => set({ pass: p.id })}
                      >
                        {p.name || p.recipient}
                      </button>
                      {p.name && <span className="block text-sm text-soft">{p.recipient}</span>}
                    </td>
                    <td className="py-2 pr-6">
                      <PassState pass={p} />
                      {p.spreadAt && <span className="block text-sm text-ask">used from many networks</span>}
                    </td>
                    <td className="py-2 pr-6 whitespace-nowrap tabular-nums max-md:hidden">{downloads(p)}</td>
                    <td className="py-2 pr-6 whitespace-nowrap max-md:hidden">{passEnd(p)}</td>
                    <td className="py-2 pr-6 max-md:hidden">{p.kind}</td>
                    <td className="py-2 pr-6 wrap-anywhere max-md:hidden">{p.reference}</td>
                  </tr>
                ))}
              </Table>
            )}
          </Listed>
          <Parts back={list.back} onward={found.data?.more ? () => list.onward(found.data.passes.at(-1)!.id) : undefined} />
        </>
      )}
      <Drawer open={doing === "issue"} title="Issue a pass" onClose={close}>
        {doing === "issue" && <IssueForm kinds={declared} onDone={close} />}
      </Drawer>
      <Drawer open={doing === "rotate"} title="Replace all passes of a kind" onClose={close}>
        {doing === "rotate" && <RotateForm kinds={declared} onDone={close} />}
      </Drawer>
      <Drawer open={doing === "import"} title="Issue passes from a list" onClose={close}>
        {doing === "import" && (
          <>
            {declared.length > 1 && (
              <label className="mb-4 flex items-center gap-2 text-soft">
                Kind
                <select className={field} value={kind} onChange={(e) => setImporting(e.target.value)}>
                  {declared.map((k) => (
                    <option key={k.name} value={k.name}>
                      {k.title}
                    </option>
                  ))}
                </select>
              </label>
            )}
            <Import
              key={kind}
              what="passes"
              hint={
                "CSV with a header row: address; optionally name, reference, note, until, downloads, paths. Each " +
                "recipient gets a pass by e-mail. Recipients who already have a valid pass, or one with the same reference, are skipped."
              }
              example={"address,name,reference\nada@carrow.example,Ada Carrow,2026-118"}
              accept=".csv,text/csv"
              strict={false}
              run={async (file, dry) => {
                const { lines } = await importPasses({ kind, file, dry });
                if (!dry) void queries.invalidateQueries({ queryKey: key("passes") });
                return lines;
              }}
              onDone={close}
            />
          </>
        )}
      </Drawer>
      <Drawer open={open !== ""} title="Pass" onClose={() => set({ pass: "" })}>
        {open && <PassDetails key={open} id={open} onClose={() => set({ pass: "" })} />}
      </Drawer>
    </>
  );
}
