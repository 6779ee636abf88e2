import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { Said, useAct } from "../parts/act";
import { Drawer } from "../parts/dialog";
import { ago, when } from "../parts/format";
import { useSettled } from "../parts/hooks";
import { Broken, Heading, Loading } from "../parts/states";
import { field, plain, small } from "../parts/styles";
import { row, Table } from "../parts/table";
import type { Message } from "../schema";
import { about } from "./kinds";
import { MessageDetails } from "./MessageDetails";
import { MessageState } from "./MessageState";
import { listMessages, testMessage } from "./queries";
import { Samples } from "./Samples";

const states = ["", "waiting", "sent", "failed", "dropped"] as const;

// The mails to people: what became of each, and what each kind says.
export function MessagesPage() {
  const [params, setParams] = useSearchParams();
  const filter = { state: "", search: "", ...Object.fromEntries(params) };
  const [before, setBefore] = useState<number[]>([]);
  const [open, setOpen] = useState<Message>();
  const [samples, setSamples] = useState(false);
  const settled = useSettled(filter, 200);
  const last = before.at(-1);
  const list = useQuery({
    queryKey: ["messages", settled, last],
    queryFn: () => listMessages({ state: settled.state, search: settled.search, limit: 50, before: last }),
    placeholderData: keepPreviousData,
    refetchInterval: last ? false : 3000,
  });
  const set = (change: Record<string, string>) => {
    setBefore([]);
    setParams(Object.fromEntries(Object.entries({ ...filter, ...change }).filter(([, v]) => v)), { replace: true });
  };
  const count = (state: string) => (list.data && state ? ` ${list.data[state as "waiting"]}` : "");
  return (
    <>
      <Heading title="Messages">
        The mails that are written to people, and what became of each. One that could not be sent is tried again, after a minute and then
        less often, until its time is over.
      </Heading>
      {list.data && !list.data.server && (
        <p className="mb-5 border-l-4 border-line py-1 pl-4">
          There is no mail server, so nothing is sent. Open a message to pass its link on yourself, or name a server with{" "}
          <code>--mail</code>.
        </p>
      )}
      <div className="mb-4 flex flex-wrap items-center gap-x-6 gap-y-3">
        <div role="group" aria-label="State" className="flex flex-wrap gap-1">
          {states.map((s) => (
            <button
              key={s}
              type="button"
              className={`${small} ${filter.state === s ? "bg-hover font-bold" : ""}`}
              aria-pressed={filter.state === s}
              onClick={() => set({ state: s })}
            >
              {s || "all"}
              <span className="text-soft tabular-nums">{count(s)}</span>
            </button>
          ))}
        </div>
        <label className="flex items-center gap-2 text-soft">
          Search
          <input
            type="search"
            className={`${field} w-64 max-w-full`}
            value={filter.search}
            placeholder="an address, a name"
            onChange={(e) => set({ search: e.target.value })}
          />
        </label>
        <button type="button" className={plain} onClick={() => setSamples(true)}>
          See what each kind says
        </button>
      </div>
      {list.isPending ? (
        <Loading what="the messages" />
      ) : list.error ? (
        <Broken what="messages" error={list.error} retry={() => list.refetch()} />
      ) : list.data.messages.length === 0 ? (
        <p className="py-8 text-soft">{settled.state || settled.search ? "No message fits." : "No message was written yet."}</p>
      ) : (
        <Table
          heads={["To", "About", "State", { label: "Written", className: "max-md:hidden" }, { label: "Tries", className: "max-md:hidden" }]}
        >
          {list.data.messages.map((m) => (
            <tr key={m.id} className={row}>
              <td className="py-2 pr-6 wrap-anywhere">
                <button
                  type="button"
                  className="cursor-pointer text-left font-bold underline-offset-2 hover:underline"
                  onClick={() => setOpen(m)}
                >
                  {m.to}
                </button>
                {m.account && <span className="block text-sm text-soft">{m.account}</span>}
              </td>
              <td className="py-2 pr-6">{about(m.kind)}</td>
              <td className="py-2 pr-6">
                <MessageState message={m} />
                {m.problem && m.state !== "sent" && <span className="block text-sm text-soft wrap-anywhere">{m.problem}</span>}
              </td>
              <td className="py-2 pr-6 whitespace-nowrap max-md:hidden" title={when(m.madeAt)}>
                {ago(m.madeAt)}
              </td>
              <td className="py-2 pr-6 tabular-nums max-md:hidden">{m.tries}</td>
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
        {(list.data?.messages.length ?? 0) >= 50 && (
          <button type="button" className={small} onClick={() => setBefore([...before, list.data!.messages.at(-1)!.id])}>
            Older
          </button>
        )}
      </div>
      {list.data?.server && <TestForm server={list.data.server} />}
      <Drawer open={!!open} title={open?.to ?? ""} onClose={() => setOpen(undefined)}>
        {open && <MessageDetails id={open.id} sends={!!list.data?.server} />}
      </Drawer>
      <Drawer open={samples} title="What each kind says" onClose={() => setSamples(false)}>
        {samples && <Samples />}
      </Drawer>
    </>
  );
}

function TestForm({ server }: { server: string }) {
  const [to, setTo] = useState("");
  const act = useAct("messages");
  return (
    <form
      className="mt-8 max-w-xl border-t border-line pt-5"
      onSubmit={(e) => {
        e.preventDefault();
        act.run(() => testMessage(to).then(() => `A message to ${to} is handed over next.`));
      }}
    >
      <h2 className="font-bold">Does mail arrive?</h2>
      <p className="mb-2 text-soft">
        Messages are handed to <code>{server}</code>.
      </p>
      <div className="flex flex-wrap gap-2">
        <input
          type="email"
          required
          className={`${field} w-72 max-w-full`}
          value={to}
          aria-label="Address for the test"
          placeholder="your own address"
          onChange={(e) => setTo(e.target.value)}
        />
        <button type="submit" className={plain} disabled={act.busy}>
          Send a test
        </button>
      </div>
      <Said act={act} />
    </form>
  );
}
