import { key } from "../parts/keys";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Ask } from "../parts/dialog";
import { ago, when } from "../parts/format";
import { Listed, Search, useList } from "../parts/list";
import { Heading } from "../parts/states";
import { takesSmall } from "../parts/styles";
import { Pager, row, Table } from "../parts/table";
import type { Session } from "../schema";
import { endSession, listSessions } from "./queries";

const proofs: Record<string, string> = {
  password: "the password",
  passkey: "a passkey",
  code: "a code",
  elsewhere: "an account elsewhere",
};

// Who is signed in now, on which devices.
export function SessionsPage() {
  const list = useList("sessions", { search: "" }, ({ search }, offset?: number) => listSessions({ search, offset: offset ?? 0 }), 10_000);
  const [ending, setEnding] = useState<Session>();
  const queries = useQueryClient();
  const end = useMutation({
    mutationFn: (s: Session) => endSession(s.handle),
    onSuccess: () => {
      setEnding(undefined);
      void queries.invalidateQueries({ queryKey: key("sessions") });
    },
  });
  return (
    <>
      <Heading title="Sessions">
        Who is signed in, where, and since when. When you end a session, that person has to sign in again immediately.
      </Heading>
      <div className="mb-4">
        <Search value={list.filter.search} placeholder="a name, a network, a browser" onChange={(search) => list.set({ search })} />
      </div>
      <Listed what="sessions" list={list} empty={(f) => f.total === 0} none={list.any ? "No session matches." : "Nobody is signed in."}>
        {(f) => (
          <>
            <Table heads={["Account", "Last used", "Since", "Proof", "From", "Browser", { label: <span className="sr-only">End</span> }]}>
              {f.sessions.map((s) => (
                <tr key={s.handle} className={row}>
                  <td className="py-2 pr-6 font-bold">{s.account}</td>
                  <td className="py-2 pr-6 whitespace-nowrap" title={when(s.seenAt)}>
                    {ago(s.seenAt)}
                  </td>
                  <td className="py-2 pr-6 whitespace-nowrap">
                    {when(s.madeAt)}
                    {s.remembered && <span className="block text-sm text-soft">stays signed in</span>}
                  </td>
                  <td className="py-2 pr-6 whitespace-nowrap" title={when(s.provedAt)}>
                    {ago(s.provedAt)}
                    <span className="block text-sm text-soft">
                      with{" "}
                      {s.how
                        .split(" ")
                        .map((how) => proofs[how] ?? how)
                        .join(" and ")}
                    </span>
                  </td>
                  <td className="py-2 pr-6">{s.network || <span className="text-soft">unknown</span>}</td>
                  <td className="py-2 pr-6 text-sm text-soft wrap-anywhere">{s.agent || "unknown browser"}</td>
                  <td className="py-2 text-right">
                    <button
                      type="button"
                      className={takesSmall}
                      onClick={() => setEnding(s)}
                      aria-label={`End the session of ${s.account} since ${when(s.madeAt)}`}
                    >
                      End
                    </button>
                  </td>
                </tr>
              ))}
            </Table>
            <Pager
              offset={list.at ?? 0}
              shown={f.sessions.length}
              total={f.total}
              counted={5000}
              onMove={(to) => list.go(to || undefined)}
            />
          </>
        )}
      </Listed>
      <Ask
        question={ending && `End this session of ${ending.account}?`}
        text="That browser has to sign in again immediately."
        yes="End session"
        busy={end.isPending}
        error={end.error}
        onYes={() => ending && end.mutate(ending)}
        onNo={() => {
          end.reset();
          setEnding(undefined);
        }}
      />
    </>
  );
}
