import { useState } from "react";
import { Said, useAct } from "../parts/act";
import { Panel } from "../parts/dialog";
import { ago, when } from "../parts/format";
import { plain, primary, small, takesSmall } from "../parts/styles";
import type { Application, Invitation, Joining } from "../schema";
import { approve, decline, uninvite } from "./queries";

// Registrations waiting for you and is not in, and who is invited, above the accounts; nothing if there is nobody.
export function Waiting({ joining }: { joining: Joining }) {
  const act = useAct("joining", "people", "messages");
  const [declining, setDeclining] = useState<Application>();
  const open = joining.applications.filter((a) => a.state !== "declined");
  if (open.length + joining.invitations.length === 0 && !act.done && !act.error) return null;
  return (
    <section className="mb-6 border-l-4 border-brass py-1 pl-4" data-testid="waiting">
      {open.length > 0 && <h2 className="font-bold">Registrations waiting for you</h2>}
      <ul>
        {open.map((a) => (
          <li key={a.name} className="flex flex-wrap items-center gap-x-4 gap-y-1 py-1.5">
            <span className="min-w-0 wrap-anywhere">
              <strong>{a.name}</strong> <span className="text-soft">{a.email}</span>
              <span className="block text-sm text-soft">
                {a.state === "waiting" ? "confirmed the address and is waiting for you" : "hasn't opened the link in the e-mail yet"}
                {`, since ${ago(a.madeAt)}`}
              </span>
            </span>
            <span className="flex gap-2">
              {a.state === "waiting" && (
                <button
                  type="button"
                  className={small}
                  disabled={act.busy}
                  aria-label={`Approve ${a.name}`}
                  onClick={() => act.run(() => approve(a.name).then(() => `${a.name} has an account and was informed by e-mail.`))}
                >
                  Approve
                </button>
              )}
              <button type="button" className={small} disabled={act.busy} aria-label={`Decline ${a.name}`} onClick={() => setDeclining(a)}>
                Decline
              </button>
            </span>
          </li>
        ))}
      </ul>
      {joining.invitations.length > 0 && <h2 className="mt-2 font-bold">Invitations</h2>}
      <ul>
        {joining.invitations.map((i) => (
          <Invited
            key={i.email}
            invitation={i}
            busy={act.busy}
            onRevoke={() => act.run(() => uninvite(i.email).then(() => `The invitation to ${i.email} has ended.`))}
          />
        ))}
      </ul>
      <Said act={act} />
      <DeclinePanel
        who={declining}
        onNo={() => setDeclining(undefined)}
        onYes={(text) => {
          const { name } = declining!;
          setDeclining(undefined);
          act.run(() => decline(name, text).then(() => `${name} was declined.`));
        }}
      />
    </section>
  );
}

function Invited({ invitation: i, busy, onRevoke }: { invitation: Invitation; busy: boolean; onRevoke: () => void }) {
  return (
    <li className="flex flex-wrap items-center gap-x-4 gap-y-1 py-1.5">
      <span className="min-w-0 wrap-anywhere">
        <strong>{i.email}</strong> <span className="text-soft">{i.roles.length ? `as ${i.roles.join(", ")}` : "no role"}</span>
        <span className="block text-sm text-soft">
          by {i.madeBy}, until {when(i.until)}
        </span>
      </span>
      <button type="button" className={takesSmall} disabled={busy} onClick={onRevoke} aria-label={`End the invitation to ${i.email}`}>
        End
      </button>
    </li>
  );
}

function DeclinePanel({ who, onYes, onNo }: { who?: Application; onYes: (text: string) => void; onNo: () => void }) {
  const [text, setText] = useState("");
  return (
    <Panel open={!!who} title={`Decline ${who?.name ?? ""}?`} onClose={onNo}>
      <p className="mt-2">
        {who?.state === "waiting"
          ? "They are informed by e-mail, with your message if you write one. They may apply again."
          : "Their address isn't confirmed, so no e-mail is sent."}
      </p>
      {who?.state === "waiting" && (
        <textarea
          className="mt-3 h-24 w-full rounded border border-line bg-sheet p-2"
          aria-label="Your message"
          value={text}
          onChange={(e) => setText(e.target.value)}
          maxLength={1500}
        />
      )}
      <div className="mt-4 flex gap-2">
        <button type="button" className={primary} onClick={() => onYes(text)}>
          Decline
        </button>
        <button type="button" className={plain} onClick={onNo}>
          Cancel
        </button>
      </div>
    </Panel>
  );
}
