import { key, type Kept } from "../parts/keys";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Said, useAct } from "../parts/act";
import { Ask } from "../parts/dialog";
import { when } from "../parts/format";
import { Broken, Loading } from "../parts/states";
import { field, plain, takes } from "../parts/styles";
import type { IssuedPass } from "../schema";
import { Issued } from "./Issued";
import { downloads, passEnd, PassState } from "./PassState";
import { doPass, getPass, renewPass, resendPass } from "./queries";

// One pass: what it is worth, what can be done with it, and its story.
export function PassDetails({ id, onClose }: { id: string; onClose: () => void }) {
  const pass = useQuery({ queryKey: key("pass", id), queryFn: () => getPass(id) });
  const [asking, setAsking] = useState(false);
  const [issued, setIssued] = useState<IssuedPass>();
  const [until, setUntil] = useState("");
  const [more, setMore] = useState("");
  const stale: Kept[] = ["pass", "passes"];
  const [state, renewing, sending, revoking] = [useAct(...stale), useAct(...stale), useAct(...stale), useAct(...stale)];
  if (pass.isPending) return <Loading what="the pass" />;
  if (pass.error) return <Broken what="pass" error={pass.error} retry={() => pass.refetch()} />;
  const p = pass.data;
  if (issued) {
    return (
      <Issued
        pass={issued}
        what="The pass has a new link and password."
        onDone={() => {
          setIssued(undefined);
          onClose();
        }}
      />
    );
  }
  const facts: [string, React.ReactNode][] = [
    ["State", <PassState pass={p} />],
    ["Recipient", p.name ? `${p.name}, ${p.recipient}` : p.recipient],
    ["Reference", p.reference],
    ["Name of the pass", <code>{p.id}</code>],
    ["Until", passEnd(p)],
    ["Downloads", downloads(p)],
    ["Networks", `${p.networks ?? 0} within a day`],
  ];
  if (p.paths?.length) facts.push(["Only", p.paths.join(" ")]);
  if (p.oldUntil) facts.push(["Before", `the previous link and password also work until ${when(p.oldUntil)}`]);
  if (p.note) facts.push(["Note", p.note]);
  const alive = p.state !== "revoked";
  return (
    <div className="flex flex-col gap-6">
      {p.why === "spread" && p.state === "paused" && (
        <p className="border-l-4 border-ask py-1 pl-4">
          It was used from more networks than its kind allows, so others probably know it. The recipient was sent a link to reopen it with
          new credentials.
        </p>
      )}
      <dl className="grid grid-cols-[9rem_1fr] gap-y-1 max-md:grid-cols-1">
        {facts.map(([label, value]) => (
          <div key={label} className="contents">
            <dt className="text-soft">{label}</dt>
            <dd className="wrap-anywhere max-md:mb-2">{value}</dd>
          </div>
        ))}
      </dl>
      {alive && (
        <>
          <section className="flex flex-col gap-2">
            <h3 className="font-bold">Renew</h3>
            <form
              className="flex flex-wrap items-end gap-3 text-sm text-soft"
              onSubmit={(e) => {
                e.preventDefault();
                renewing.run(async () => {
                  const renewed = await renewPass(id, {
                    until: until ? new Date(until).toISOString() : undefined,
                    downloads: more ? Number(more) : undefined,
                  });
                  setUntil("");
                  setMore("");
                  return `Valid until ${passEnd(renewed)}; downloads: ${downloads(renewed)}.`;
                });
              }}
            >
              <label className="flex flex-col gap-1">
                Until (empty: as long as its kind lasts)
                <input type="datetime-local" className={field} value={until} onChange={(e) => setUntil(e.target.value)} />
              </label>
              <label className="flex flex-col gap-1">
                More downloads
                <input type="number" min={1} className={`${field} w-24`} value={more} onChange={(e) => setMore(e.target.value)} />
              </label>
              <button type="submit" className={plain} disabled={renewing.busy}>
                Renew
              </button>
            </form>
            <Said act={renewing} />
          </section>
          <section className="flex flex-wrap gap-2">
            {p.state === "paused" ? (
              <button
                type="button"
                className={plain}
                disabled={state.busy}
                onClick={() => state.run(() => doPass("resume", id).then(() => "Reopened."))}
              >
                Reopen
              </button>
            ) : (
              <button
                type="button"
                className={plain}
                disabled={state.busy}
                onClick={() => state.run(() => doPass("pause", id).then(() => "Paused. It stops working immediately."))}
              >
                Pause
              </button>
            )}
            {p.state !== "ended" && (
              <button
                type="button"
                className={plain}
                disabled={sending.busy}
                onClick={() => sending.run(() => resendPass(id, {}).then(setIssued))}
              >
                Send again
              </button>
            )}
            <button type="button" className={takes} onClick={() => setAsking(true)}>
              Revoke
            </button>
            <div className="w-full">
              <Said act={sending.error ? sending : state} />
              <p className="text-sm text-soft">
                Sending again creates a new link and password, since only hashes are stored. The previous ones stop working.
              </p>
            </div>
          </section>
        </>
      )}
      <section>
        <h3 className="mb-2 font-bold">History</h3>
        <ol className="border-l-2 border-line">
          {p.story?.map((e, i) => (
            <li key={i} className="relative pb-3 pl-5">
              <span aria-hidden="true" className="absolute top-2 -left-[0.4rem] h-2.5 w-2.5 rounded-full border-2 border-brass bg-sheet" />
              <p>
                {e.what}
                {e.actor && <span className="text-soft"> by {e.actor}</span>}
                {e.detail && <span className="text-soft wrap-anywhere">: {e.detail}</span>}
              </p>
              <p className="text-sm text-soft">{when(e.at)}</p>
            </li>
          ))}
        </ol>
      </section>
      <Ask
        question={asking ? `Revoke the pass of ${p.name || p.recipient}?` : undefined}
        text={
          "It stops working immediately, and downloads in progress are cut off. You can't undo this, " + "but you can issue another pass."
        }
        yes="Revoke pass"
        busy={revoking.busy}
        error={revoking.error}
        onYes={() =>
          revoking.run(async () => {
            await doPass("revoke", id);
            setAsking(false);
          })
        }
        onNo={() => {
          revoking.reset();
          setAsking(false);
        }}
      />
    </div>
  );
}
