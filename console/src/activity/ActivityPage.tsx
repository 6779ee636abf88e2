import { detailOf, TryThis } from "./TryThis";
import { useState } from "react";
import { searchActivity } from "./queries";
import { Parts, useList } from "../parts/list";
import { row, Table } from "../parts/table";
import { Broken, Heading, Loading } from "../parts/states";
import { field } from "../parts/styles";
import type { ActivityRecord } from "../schema";

const kinds = [
  ["", "anything"],
  ["sign-in", "sign-ins and failures"],
  ["sign-in failed", "failed sign-ins"],
  ["sign-out", "sign-outs"],
  ["refused", "refusals"],
  ["hidden", "requests for hidden places"],
  ["role", "roles granted and revoked"],
  ["account", "account changes"],
  ["password", "passwords"],
  ["session", "sessions ended"],
  ["join", "registrations"],
  ["invit", "invitations"],
  ["recovery", "forgotten passwords"],
  ["address", "e-mail address changes"],
  ["message", "messages"],
  ["policy", "policy versions"],
];

const shownAtOnce = 100;

// What happened at the doors, and who changed what; the newest on top, as it comes.
export function ActivityPage() {
  const [live, setLive] = useState(true);
  const [part, setPart] = useState<ActivityRecord[]>();
  const list = useList(
    "activity",
    { kind: "", account: "", network: "", reference: "", search: "" },
    (filter, before: number | undefined, signal) =>
      searchActivity({ ...filter, before }, shownAtOnce, signal, setPart).finally(() => setPart(undefined)),
    (found) => live && (found?.long ? 30_000 : 2000),
  );
  const { filter, set } = list;
  const { data, error, isPending, isPlaceholderData, refetch } = list.found;
  const searching = part !== undefined && (isPending || isPlaceholderData);
  const events = searching ? part : data?.events;
  const input = (name: "account" | "network" | "reference" | "search", label: string, width: string) => (
    <label className="flex flex-col gap-1 text-sm text-soft">
      {label}
      <input
        className={`${field} ${width}`}
        value={filter[name]}
        onChange={(e) => set({ [name]: e.target.value })}
        spellCheck={false}
        autoCapitalize="none"
      />
    </label>
  );
  return (
    <>
      <Heading title="Activity">
        What happened at the doors, and who changed what. Allowed requests are counted, not listed. Passwords are never recorded.
      </Heading>
      <div className="mb-2 flex flex-wrap items-end gap-4">
        <label className="flex flex-col gap-1 text-sm text-soft">
          Kind
          <select className={field} value={filter.kind} onChange={(e) => set({ kind: e.target.value })}>
            {kinds.map(([value, label]) => (
              <option key={value} value={value}>
                {label}
              </option>
            ))}
          </select>
        </label>
        {input("account", "Account", "w-36")}
        {input("network", "From", "w-36")}
        {input("reference", "Reference", "w-32")}
        {input("search", "Any words", "w-44")}
        <label className="flex items-center gap-2 py-2">
          <input type="checkbox" className="h-4 w-4 accent-brass" checked={live} onChange={(e) => setLive(e.target.checked)} /> follow
        </label>
      </div>
      <p role="status" className="mb-3 h-6 text-sm text-soft">
        {searching && "Searching older records…"}
      </p>
      {isPending && !searching ? (
        <Loading what="the activity" />
      ) : error ? (
        <Broken what="activity" error={error} retry={() => refetch()} />
      ) : !events?.length ? (
        <p className="py-8 text-soft">{searching ? "No matching entries so far." : "No matching entries."}</p>
      ) : (
        <EventTable events={events} onReference={(reference) => set({ reference })} />
      )}
      <Parts
        back={list.back}
        onward={!searching && (events?.length ?? 0) >= shownAtOnce ? () => list.onward(events!.at(-1)!.id) : undefined}
      />
    </>
  );
}

const colours: [string, string][] = [
  ["sign-in failed", "text-bad"],
  ["sign-in slowed", "text-bad"],
  ["refused", "text-bad"],
  ["hidden", "text-soft"],
  ["sign-in", "text-good"],
];

function EventTable({ events, onReference }: { events: ActivityRecord[]; onReference: (reference: string) => void }) {
  return (
    <Table heads={["When", "What", "Account", "From", "Where and why", "Reference"]}>
      {events.map((e) => (
        <tr key={e.id} className={row}>
          <td className="py-1.5 pr-6 whitespace-nowrap text-soft">
            {new Date(e.at).toLocaleString(undefined, {
              month: "short",
              day: "numeric",
              hour: "2-digit",
              minute: "2-digit",
              second: "2-digit",
            })}
          </td>
          <td className={`py-1.5 pr-6 font-bold whitespace-nowrap ${colours.find(([kind]) => e.kind.startsWith(kind))?.[1] ?? ""}`}>
            {e.kind}
          </td>
          <td className="py-1.5 pr-6 wrap-anywhere">
            {e.account}
            {e.actor && e.actor !== e.account && <span className="block text-sm text-soft">by {e.actor}</span>}
          </td>
          <td className="py-1.5 pr-6 whitespace-nowrap">{e.network}</td>
          <td className="py-1.5 pr-6 wrap-anywhere">
            {e.place && <code className="block">{e.place}</code>}
            {(e.detail || e.door) && (
              <span className="text-sm text-soft">
                {e.door && <code>{e.door}</code>} {detailOf(e)}
              </span>
            )}
          </td>
          <td className="py-1.5 whitespace-nowrap">
            {e.reference && (
              <button type="button" className="cursor-pointer font-mono text-sm underline" onClick={() => onReference(e.reference!)}>
                {e.reference}
              </button>
            )}{" "}
            {(e.kind === "refused" || e.kind === "hidden") && <TryThis event={e} />}
          </td>
        </tr>
      ))}
    </Table>
  );
}
