import { useState } from "react";
import { Said, useAct } from "../parts/act";
import { day } from "../parts/format";
import { field, plain } from "../parts/styles";
import type { PatrolFinding, PatrolRequest } from "../schema";
import { acceptFinding, rejectFinding } from "./queries";
import { SeverityMark } from "./SeverityMark";

// One finding: what is wrong, what the policy says there, both answers, and that somebody lives with it.
export function FindingDetails({ patrol, finding: f, done }: { patrol: number; finding: PatrolFinding; done: () => void }) {
  return (
    <div className="flex flex-col gap-4">
      <p>
        <SeverityMark severity={f.severity} /> <strong>{f.rule}</strong>, as {f.as}
        <span className="block text-soft">{f.about}</span>
      </p>
      <p className="wrap-anywhere first-letter:uppercase">{f.message}</p>
      {f.door && <p className="border-l-4 border-brass py-0.5 pl-3">{f.door}</p>}
      <div className="grid gap-3 md:grid-cols-2">
        {f.requests.map((r, i) => (
          <Answer key={i} request={r} />
        ))}
      </div>
      {f.accepted ? <Accepted finding={f} /> : <Accept patrol={patrol} finding={f} done={done} />}
    </div>
  );
}

function Answer({ request: r }: { request: PatrolRequest }) {
  return (
    <section className="rounded border border-line p-3 text-sm wrap-anywhere" aria-label={`As ${r.as}`}>
      <h3 className="font-bold">{r.as}</h3>
      <p>
        <code>
          {r.method} {r.url}
        </code>
      </p>
      {r.with && (
        <p className="text-soft">
          with <code>{r.with}</code>
        </p>
      )}
      <p>
        <strong>{r.status || "no answer"}</strong>
        {r.location && (
          <>
            {" "}
            to <code>{r.location}</code>
          </>
        )}
      </p>
      {r.fields && (
        <p className="text-soft">
          <code>{r.fields}</code>
        </p>
      )}
      {r.begins && <p className="mt-1">{r.begins}</p>}
    </section>
  );
}

function Accepted({ finding: f }: { finding: PatrolFinding }) {
  const act = useAct("patrols");
  return (
    <section className="border-t border-line pt-4">
      <p>
        Accepted by {f.accepted!.by}
        {f.accepted!.until ? ` until ${day(f.accepted!.until)}` : ""}: {f.accepted!.reason}
      </p>
      <button
        type="button"
        className={`${plain} mt-3`}
        disabled={act.busy}
        onClick={() => act.run(() => rejectFinding(f.key).then(() => "Reported again."))}
      >
        Report it again
      </button>
      <Said act={act} />
    </section>
  );
}

function Accept({ patrol, finding: f, done }: { patrol: number; finding: PatrolFinding; done: () => void }) {
  const [reason, setReason] = useState("");
  const [until, setUntil] = useState("");
  const act = useAct("patrols");
  return (
    <form
      className="flex flex-col gap-3 border-t border-line pt-4"
      onSubmit={(e) => {
        e.preventDefault();
        // The day is meant with its end.
        const end = until ? new Date(`${until}T23:59:59`).toISOString() : undefined;
        act.run(() => acceptFinding(patrol, f.key, reason, end).then(done));
      }}
    >
      <h3 className="font-bold">Accept this finding</h3>
      <p className="text-soft">It is no longer reported, by later patrols either, until the day you set.</p>
      <label className="flex flex-col gap-1">
        Reason
        <input required maxLength={500} className={field} value={reason} onChange={(e) => setReason(e.target.value)} />
      </label>
      <label className="flex flex-col gap-1">
        Until <span className="text-sm text-soft">empty: no end</span>
        <input type="date" className={`${field} w-48`} value={until} onChange={(e) => setUntil(e.target.value)} />
      </label>
      <div>
        <button type="submit" className={plain} disabled={act.busy}>
          Accept finding
        </button>
        <Said act={act} />
      </div>
    </form>
  );
}
