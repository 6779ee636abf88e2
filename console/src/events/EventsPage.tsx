import { key } from "../parts/keys";
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Drawer } from "../parts/dialog";
import { ago, when } from "../parts/format";
import { Import } from "../parts/Import";
import { Chips, Listed, Parts, Search, shownAtOnce, useList } from "../parts/list";
import { Heading } from "../parts/states";
import { plain } from "../parts/styles";
import { row, Table } from "../parts/table";
import type { ShopEvent } from "../schema";
import { EventDetails } from "./EventDetails";
import { buyer, EventState, items, stateText } from "./EventState";
import { importPayments, listEvents } from "./queries";
import { Secrets } from "./Secrets";
import { Targets } from "./Targets";

const states: ShopEvent["state"][] = ["kept", "done", "waiting", "ignored"];

// What the shop told, and what became of it.
export function EventsPage() {
  const list = useList(
    "events",
    { state: "", search: "" },
    (filter, before?: number) => listEvents({ ...filter, limit: shownAtOnce, before }),
    3000,
  );
  const { filter, set, found } = list;
  const [doing, setDoing] = useState<"secrets" | "targets" | "import">();
  const [open, setOpen] = useState<ShopEvent>();
  const queries = useQueryClient();
  const close = () => setDoing(undefined);
  return (
    <>
      <Heading title="Events">
        What the shop reported about its orders. Each event is processed once: it grants, extends, ends, or takes back what was bought.
        Events that can't be processed wait here for you.
      </Heading>
      <div className="mb-5 flex flex-wrap gap-2">
        <button type="button" className={plain} onClick={() => setDoing("import")}>
          Import payments
        </button>
        <button type="button" className={plain} onClick={() => setDoing("secrets")}>
          The shop's secrets
        </button>
        <button type="button" className={plain} onClick={() => setDoing("targets")}>
          Notify other programs
        </button>
      </div>
      <div className="mb-4 flex flex-wrap items-center gap-x-6 gap-y-3">
        <Chips
          label="State"
          chosen={filter.state}
          of={["" as const, ...states].map((s) => ({ value: s, label: s ? stateText(s) : "all", count: s ? found.data?.[s] : undefined }))}
          onChoose={(state) => set({ state })}
        />
        <Search value={filter.search} placeholder="an order, an address" onChange={(search) => set({ search })} />
      </div>
      <Listed
        what="events"
        list={list}
        empty={(f) => f.events.length === 0}
        none={list.any ? "No event matches." : "No events yet. Create a secret for the shop, or import a list of payments."}
      >
        {(f) => (
          <Table
            heads={[
              "Order",
              "What",
              { label: "Buyer", className: "max-md:hidden" },
              { label: "Items", className: "max-md:hidden" },
              "State",
              { label: "Received", className: "max-md:hidden" },
            ]}
          >
            {f.events.map((e) => (
              <tr key={e.id} className={row}>
                <td className="py-2 pr-6">
                  <button
                    type="button"
                    className="cursor-pointer text-left font-bold underline-offset-2 wrap-anywhere hover:underline"
                    onClick={() => setOpen(e)}
                  >
                    {e.order || "–"}
                  </button>
                  <span className="block text-sm text-soft wrap-anywhere md:hidden">{buyer(e)}</span>
                </td>
                <td className="py-2 pr-6">{e.type}</td>
                <td className="py-2 pr-6 wrap-anywhere max-md:hidden">{buyer(e) || <span className="text-soft">–</span>}</td>
                <td className="py-2 pr-6 max-md:hidden">{items(e) || <span className="text-soft">–</span>}</td>
                <td className="py-2 pr-6">
                  <EventState state={e.state} />
                  {e.problem && <span className="block text-sm text-soft wrap-anywhere">{e.problem}</span>}
                </td>
                <td className="py-2 pr-6 whitespace-nowrap max-md:hidden" title={when(e.at)}>
                  {ago(e.at)}
                </td>
              </tr>
            ))}
          </Table>
        )}
      </Listed>
      <Parts
        back={list.back}
        onward={(found.data?.events.length ?? 0) >= shownAtOnce ? () => list.onward(found.data!.events.at(-1)!.id) : undefined}
      />
      <Drawer open={!!open} title={`Order ${open?.order || "–"}`} onClose={() => setOpen(undefined)}>
        {open && <EventDetails id={open.id} />}
      </Drawer>
      <Drawer open={doing === "secrets"} title="The shop's secrets" onClose={close}>
        {doing === "secrets" && <Secrets />}
      </Drawer>
      <Drawer open={doing === "targets"} title="Notify other programs" onClose={close}>
        {doing === "targets" && <Targets />}
      </Drawer>
      <Drawer open={doing === "import"} title="Import payments" onClose={close}>
        {doing === "import" && (
          <Import
            what="payments"
            hint={
              "CSV with a header row: order, address, item; optionally name, account, type, number, until, at, language. " +
              "Rows with the same order number form one order. Rows imported before are skipped."
            }
            example={"order,address,item\n2026-118,ada@carrow.example,year-of-support"}
            accept=".csv,text/csv"
            strict={false}
            run={async (file, dry) => (await importPayments(file, dry)).lines}
            onDone={() => {
              void queries.invalidateQueries({ queryKey: key("events") });
              close();
            }}
          />
        )}
      </Drawer>
    </>
  );
}
