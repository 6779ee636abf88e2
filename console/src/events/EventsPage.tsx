import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { Drawer } from "../parts/dialog";
import { ago, when } from "../parts/format";
import { useSettled } from "../parts/hooks";
import { Import } from "../parts/Import";
import { Broken, Heading, Loading } from "../parts/states";
import { field, plain, small } from "../parts/styles";
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
  const [params, setParams] = useSearchParams();
  const filter = { state: "", search: "", ...Object.fromEntries(params) };
  const settled = useSettled(filter, 200);
  const [before, setBefore] = useState<number[]>([]);
  const [doing, setDoing] = useState<"secrets" | "targets" | "import">();
  const [open, setOpen] = useState<ShopEvent>();
  const queries = useQueryClient();
  const last = before.at(-1);
  const list = useQuery({
    queryKey: ["events", "list", settled.state, settled.search, last],
    queryFn: () => listEvents({ state: settled.state, search: settled.search, limit: 50, before: last }),
    placeholderData: keepPreviousData,
    refetchInterval: last ? false : 3000,
  });
  const set = (change: Record<string, string>) => {
    setBefore([]);
    setParams(Object.fromEntries(Object.entries({ ...filter, ...change }).filter(([, v]) => v)), { replace: true });
  };
  const close = () => setDoing(undefined);
  return (
    <>
      <Heading title="Events">
        What the shop told of its orders. Each is carried out once: what was bought opens, is extended, ends, or is taken back. One that
        cannot be carried out is kept until somebody has looked at it.
      </Heading>
      <div className="mb-5 flex flex-wrap gap-2">
        <button type="button" className={plain} onClick={() => setDoing("import")}>
          Bring in payments
        </button>
        <button type="button" className={plain} onClick={() => setDoing("secrets")}>
          The shop's secrets
        </button>
        <button type="button" className={plain} onClick={() => setDoing("targets")}>
          Tell other programs
        </button>
      </div>
      <div className="mb-4 flex flex-wrap items-center gap-x-6 gap-y-3">
        <div role="group" aria-label="State" className="flex flex-wrap gap-1">
          {(["", ...states] as const).map((s) => (
            <button
              key={s}
              type="button"
              className={`${small} ${filter.state === s ? "bg-hover font-bold" : ""}`}
              aria-pressed={filter.state === s}
              onClick={() => set({ state: s })}
            >
              {s ? stateText(s) : "all"} {s && <span className="text-soft tabular-nums">{list.data?.[s]}</span>}
            </button>
          ))}
        </div>
        <label className="flex items-center gap-2 text-soft">
          Search
          <input
            type="search"
            className={`${field} w-64 max-w-full`}
            value={filter.search}
            placeholder="an order, an address"
            onChange={(e) => set({ search: e.target.value })}
          />
        </label>
      </div>
      {list.isPending ? (
        <Loading what="the events" />
      ) : list.error ? (
        <Broken what="events" error={list.error} retry={() => list.refetch()} />
      ) : list.data.events.length === 0 ? (
        <p className="py-8 text-soft">
          {settled.state || settled.search
            ? "No event fits."
            : "The shop has told nothing yet. Make a secret for it, or bring in a list of payments."}
        </p>
      ) : (
        <Table
          heads={[
            "Order",
            "What",
            { label: "Buyer", className: "max-md:hidden" },
            { label: "Items", className: "max-md:hidden" },
            "State",
            { label: "Came", className: "max-md:hidden" },
          ]}
        >
          {list.data.events.map((e) => (
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
      <div className="mt-4 flex gap-3">
        {before.length > 0 && (
          <button type="button" className={small} onClick={() => setBefore(before.slice(0, -1))}>
            Newer
          </button>
        )}
        {(list.data?.events.length ?? 0) >= 50 && (
          <button type="button" className={small} onClick={() => setBefore([...before, list.data!.events.at(-1)!.id])}>
            Older
          </button>
        )}
      </div>
      <Drawer open={!!open} title={`Order ${open?.order || "–"}`} onClose={() => setOpen(undefined)}>
        {open && <EventDetails id={open.id} />}
      </Drawer>
      <Drawer open={doing === "secrets"} title="The shop's secrets" onClose={close}>
        {doing === "secrets" && <Secrets />}
      </Drawer>
      <Drawer open={doing === "targets"} title="Tell other programs" onClose={close}>
        {doing === "targets" && <Targets />}
      </Drawer>
      <Drawer open={doing === "import"} title="Bring in payments" onClose={close}>
        {doing === "import" && (
          <Import
            what="payments"
            hint={
              "CSV with a head line of order, address, item, and perhaps name, account, type, number, until, at, language. " +
              "Lines of one order are one order with several items. A line that was taken before does nothing more."
            }
            example={"order,address,item\n2026-118,ada@carrow.example,year-of-support"}
            accept=".csv,text/csv"
            strict={false}
            run={async (file, dry) => (await importPayments(file, dry)).lines}
            onDone={() => {
              void queries.invalidateQueries({ queryKey: ["events"] });
              close();
            }}
          />
        )}
      </Drawer>
    </>
  );
}
