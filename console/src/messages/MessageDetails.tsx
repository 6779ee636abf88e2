import { key } from "../parts/keys";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Said, useAct } from "../parts/act";
import { Ask } from "../parts/dialog";
import { when } from "../parts/format";
import { Secret } from "../parts/secret";
import { Broken, Loading } from "../parts/states";
import { plain, takes } from "../parts/styles";
import { about } from "./kinds";
import { MessageState } from "./MessageState";
import { dropMessage, getMessage, linkOfMessage, retryMessage } from "./queries";

// One message: what became of it, what it says, and what can be done.
export function MessageDetails({ id, sends }: { id: number; sends: boolean }) {
  const message = useQuery({ queryKey: key("messages", "one", id), queryFn: () => getMessage(id), refetchInterval: 3000 });
  const [link, setLink] = useState<{ label: string; text: string }>();
  const [dropping, setDropping] = useState(false);
  const act = useAct("messages");
  if (message.isPending) return <Loading what="the message" />;
  if (message.error) return <Broken what="message" error={message.error} retry={() => message.refetch()} />;
  const m = message.data;
  const open = m.state === "waiting" || m.state === "failed";
  return (
    <div className="flex flex-col gap-4">
      <dl className="grid grid-cols-[max-content_1fr] gap-x-6 gap-y-1">
        <dt className="text-soft">About</dt>
        <dd>{about(m.kind)}</dd>
        <dt className="text-soft">State</dt>
        <dd>
          <MessageState message={m} /> {m.endedAt && <span className="text-soft">{when(m.endedAt)}</span>}
        </dd>
        <dt className="text-soft">Written</dt>
        <dd>{when(m.madeAt)}</dd>
        <dt className="text-soft">Tries</dt>
        <dd>
          {m.tries}
          {m.nextAt && sends && `, next ${when(m.nextAt)}, last before ${when(m.until)}`}
        </dd>
        {m.problem && (
          <>
            <dt className="text-soft">Last problem</dt>
            <dd className="wrap-anywhere">{m.problem}</dd>
          </>
        )}
      </dl>
      {m.subject ? (
        <section className="rounded border border-line p-4">
          <h3 className="font-bold">{m.subject}</h3>
          <p className="mt-3 whitespace-pre-wrap wrap-anywhere">{m.text}</p>
        </section>
      ) : (
        <p className="text-soft">The text isn't kept once the message is {m.state}.</p>
      )}
      {open && (
        <div className="flex flex-wrap gap-2">
          {sends && (
            <button
              type="button"
              className={plain}
              disabled={act.busy}
              onClick={() => act.run(() => retryMessage(id).then(() => "Trying again."))}
            >
              Try again now
            </button>
          )}
          {!sends && m.hasLink && (
            <button
              type="button"
              className={plain}
              disabled={act.busy}
              onClick={() =>
                act.run(async () => {
                  const l = await linkOfMessage(id);
                  setLink({
                    label: `Give this link only to the recipient. It is valid until ${when(l.until)}.`,
                    text: location.origin + l.path,
                  });
                })
              }
            >
              Show link
            </button>
          )}
          <button type="button" className={takes} disabled={act.busy} onClick={() => setDropping(true)}>
            Discard it
          </button>
        </div>
      )}
      {link && <Secret {...link} />}
      {!dropping && <Said act={act} />}
      <Ask
        question={dropping ? `Discard this message to ${m.to}?` : undefined}
        text="It won't be sent, and its text is deleted."
        yes="Discard message"
        busy={act.busy}
        error={act.error}
        onYes={() => act.run(() => dropMessage(id).then(() => (setDropping(false), "Discarded.")))}
        onNo={() => {
          act.reset();
          setDropping(false);
        }}
      />
    </div>
  );
}
