import { key } from "../parts/keys";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Said, useAct } from "../parts/act";
import { Ask } from "../parts/dialog";
import { ends, when } from "../parts/format";
import { Broken, Loading } from "../parts/states";
import { plain, primary, takes } from "../parts/styles";
import { EventState } from "./EventState";
import { dropEvent, getEvent, retryEvent } from "./queries";

// One event: what the shop told, what became of it, and what can be done.
export function EventDetails({ id }: { id: number }) {
  const event = useQuery({ queryKey: key("events", "one", id), queryFn: () => getEvent(id) });
  const [dropping, setDropping] = useState(false);
  const act = useAct("events", "members", "passes", "messages");
  if (event.isPending) return <Loading what="the event" />;
  if (event.error) return <Broken what="event" error={event.error} retry={() => event.refetch()} />;
  const e = event.data;
  const rows: [string, React.ReactNode][] = [
    ["What", e.type],
    ["Order", e.order || "–"],
    [
      "Buyer",
      <>
        {e.name && `${e.name} `}
        {e.address && <span className="wrap-anywhere">{e.address}</span>}
        {e.account && `, account ${e.account}`}
        {!e.name && !e.address && !e.account && "not given"}
      </>,
    ],
    [
      "Items",
      e.items.length === 0 ? (
        "not given"
      ) : (
        <ul>
          {e.items.map((i) => (
            <li key={i.item}>
              {i.number > 1 && `${i.number} × `}
              {i.name || i.item} {i.name && <code className="text-soft">{i.item}</code>}
            </li>
          ))}
        </ul>
      ),
    ],
    ["Received", `${when(e.at)}, from ${e.source === "shop" ? "the shop" : "a list"}`],
  ];
  if (e.happened) rows.push(["Happened", when(e.happened)]);
  if (e.until) rows.push(["Until", ends(e.until)]);
  rows.push([
    "State",
    <>
      <EventState state={e.state} /> {e.doneAt && <span className="text-soft">{when(e.doneAt)}</span>}
    </>,
  ]);
  return (
    <div className="flex flex-col gap-4">
      <dl className="grid grid-cols-[max-content_1fr] gap-x-6 gap-y-1">
        {rows.map(([name, value]) => (
          <div key={name} className="contents">
            <dt className="text-soft">{name}</dt>
            <dd>{value}</dd>
          </div>
        ))}
      </dl>
      {e.problem && (
        <p className={`border-l-4 py-1 pl-4 ${e.state === "kept" ? "border-ask" : "border-line"}`}>
          {e.problem[0].toUpperCase() + e.problem.slice(1)}.
        </p>
      )}
      {e.state === "kept" && (
        <>
          <p className="text-soft">
            This event can't be processed yet. Fix what is missing in the policy or the accounts, then process it.
          </p>
          <div className="flex flex-wrap gap-2">
            <button type="button" className={primary} disabled={act.busy} onClick={() => act.run(() => retryEvent(id).then(() => "Done."))}>
              Process it
            </button>
            <button type="button" className={takes} disabled={act.busy} onClick={() => setDropping(true)}>
              Discard it
            </button>
          </div>
        </>
      )}
      {e.state === "done" && e.type === "paid" && !e.account && (
        <div>
          <button
            type="button"
            className={plain}
            disabled={act.busy}
            onClick={() => act.run(() => retryEvent(id).then(() => "A new link has been sent."))}
          >
            Send the buyer a new link
          </button>
        </div>
      )}
      {!dropping && <Said act={act} />}
      <Ask
        question={dropping ? `Discard this event for order ${e.order}?` : undefined}
        text="It will never be processed, so the buyer doesn't get what they paid for. The record stays."
        yes="Discard event"
        busy={act.busy}
        error={act.error}
        onYes={() => act.run(() => dropEvent(id).then(() => (setDropping(false), "Discarded.")))}
        onNo={() => {
          act.reset();
          setDropping(false);
        }}
      />
    </div>
  );
}
