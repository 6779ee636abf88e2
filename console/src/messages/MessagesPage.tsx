import { useState } from "react";
import { Said, useAct } from "../parts/act";
import { Drawer } from "../parts/dialog";
import { ago, when } from "../parts/format";
import { Chips, Listed, Parts, Search, shownAtOnce, useList } from "../parts/list";
import { Heading } from "../parts/states";
import { field, plain } from "../parts/styles";
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
  const list = useList(
    "messages",
    { state: "", search: "" },
    (filter, before?: number) => listMessages({ ...filter, limit: shownAtOnce, before }),
    3000,
  );
  const { filter, set, found } = list;
  const [open, setOpen] = useState<Message>();
  const [samples, setSamples] = useState(false);
  return (
    <>
      <Heading title="Messages">
        E-mails and notifications, and their delivery. Failed messages are tried again, after a minute at first and then less often, until
        they expire.
      </Heading>
      {found.data && !found.data.server && (
        <p className="mb-5 border-l-4 border-line py-1 pl-4">
          No mail server is configured, so nothing is sent. Open a message to pass on its link yourself, or set a server with{" "}
          <code>--mail</code>.
        </p>
      )}
      <div className="mb-4 flex flex-wrap items-center gap-x-6 gap-y-3">
        <Chips
          label="State"
          chosen={filter.state}
          of={states.map((s) => ({ value: s, label: s || "all", count: s ? found.data?.[s] : undefined }))}
          onChoose={(state) => set({ state })}
        />
        <Search value={filter.search} placeholder="an address, a name" onChange={(search) => set({ search })} />
        <button type="button" className={plain} onClick={() => setSamples(true)}>
          Show samples
        </button>
      </div>
      <Listed
        what="messages"
        list={list}
        empty={(f) => f.messages.length === 0}
        none={list.any ? "No message matches." : "No messages yet."}
      >
        {(f) => (
          <Table
            heads={[
              "To",
              "About",
              "State",
              { label: "Written", className: "max-md:hidden" },
              { label: "Tries", className: "max-md:hidden" },
            ]}
          >
            {f.messages.map((m) => (
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
      </Listed>
      <Parts
        back={list.back}
        onward={(found.data?.messages.length ?? 0) >= shownAtOnce ? () => list.onward(found.data!.messages.at(-1)!.id) : undefined}
      />
      {found.data?.server && <TestForm server={found.data.server} />}
      <Drawer open={!!open} title={open?.to ?? ""} onClose={() => setOpen(undefined)}>
        {open && <MessageDetails id={open.id} sends={!!found.data?.server} />}
      </Drawer>
      <Drawer open={samples} title="Sample messages" onClose={() => setSamples(false)}>
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
        act.run(() => testMessage(to).then(() => `Sending a message to ${to}.`));
      }}
    >
      <h2 className="font-bold">Test delivery</h2>
      <p className="mb-2 text-soft">
        Messages are sent through <code>{server}</code>.
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
          Send test
        </button>
      </div>
      <Said act={act} />
    </form>
  );
}
