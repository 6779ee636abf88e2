import { key } from "../parts/keys";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Said, useAct } from "../parts/act";
import { Ask } from "../parts/dialog";
import { when } from "../parts/format";
import { Secret } from "../parts/secret";
import { Broken, Loading } from "../parts/states";
import { field, primary, small, takesSmall } from "../parts/styles";
import type { Target } from "../schema";
import { addTarget, listTargets, removeTarget, testTarget } from "./queries";

const kinds: [string, string][] = [
  ["joined", "somebody has joined"],
  ["membership-begun", "a membership has begun"],
  ["membership-ended", "a membership has ended"],
  ["pass-used-up", "a pass is used up"],
  ["refused-often", "somebody was denied too often"],
  ["policy-applied", "a new policy is active"],
  ["guarantee-broken", "a new policy would break a guarantee"],
];

// The programs that are told what happens.
export function Targets() {
  const list = useQuery({ queryKey: key("events", "targets"), queryFn: listTargets });
  const [url, setURL] = useState("");
  const [chosen, setChosen] = useState<string[]>([]);
  const [made, setMade] = useState("");
  const [removing, setRemoving] = useState<Target>();
  const act = useAct("events", "messages");
  if (list.isPending) return <Loading what="the programs" />;
  if (list.error) return <Broken what="programs" error={list.error} retry={() => list.refetch()} />;
  return (
    <div className="flex flex-col gap-4">
      <p>Notify other programs of what happens here, signed in the same way. Pending notifications are listed on the Messages page.</p>
      {list.data.length === 0 ? (
        <p className="text-soft">No program is notified yet.</p>
      ) : (
        <ul>
          {list.data.map((t) => (
            <li key={t.id} className="flex items-start justify-between gap-4 border-b border-line py-2">
              <span className="min-w-0">
                <code className="wrap-anywhere">{t.url}</code>
                <span className="block text-sm text-soft">
                  {t.kinds.join(", ")}; since {when(t.madeAt)} by {t.madeBy}
                </span>
              </span>
              <span className="flex gap-2">
                <button
                  type="button"
                  className={small}
                  disabled={act.busy}
                  onClick={() => act.run(() => testTarget(t.id).then(() => "A test was sent. The Messages page shows its delivery."))}
                >
                  Test
                </button>
                <button type="button" className={takesSmall} onClick={() => setRemoving(t)}>
                  Remove
                </button>
              </span>
            </li>
          ))}
        </ul>
      )}
      {made && <Secret label="Notifications are signed with this secret. It is shown only once." text={made} />}
      <form
        className="flex flex-col gap-3 border-t border-line pt-4"
        onSubmit={(e) => {
          e.preventDefault();
          act.run(() => addTarget(url, chosen).then((t) => (setMade(t.secret), setURL(""), setChosen([]), "Added.")));
        }}
      >
        <label className="flex flex-col gap-1">
          <span className="font-bold">Notify another program</span>
          <input
            type="url"
            required
            className={field}
            value={url}
            placeholder="https://desk.example/in"
            onChange={(e) => setURL(e.target.value)}
          />
        </label>
        <fieldset>
          <legend className="mb-1 text-soft">When</legend>
          {kinds.map(([kind, text]) => (
            <label key={kind} className="flex items-center gap-2 py-0.5">
              <input
                type="checkbox"
                checked={chosen.includes(kind)}
                onChange={(e) => setChosen(e.target.checked ? [...chosen, kind] : chosen.filter((k) => k !== kind))}
              />
              {text}
            </label>
          ))}
        </fieldset>
        <div>
          <button type="submit" className={primary} disabled={act.busy || chosen.length === 0}>
            Add
          </button>
        </div>
      </form>
      {!removing && <Said act={act} />}
      <Ask
        question={removing ? "Stop notifying it?" : undefined}
        text={`${removing?.url ?? ""} gets no more notifications, including those that are pending.`}
        yes="Stop notifying"
        busy={act.busy}
        error={act.error}
        onYes={() => act.run(() => removeTarget(removing!.id).then(() => (setRemoving(undefined), "Removed.")))}
        onNo={() => {
          act.reset();
          setRemoving(undefined);
        }}
      />
    </div>
  );
}
