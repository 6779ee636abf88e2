import { key } from "../parts/keys";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Said, useAct } from "../parts/act";
import { Ask } from "../parts/dialog";
import { when } from "../parts/format";
import { Secret } from "../parts/secret";
import { Broken, Loading } from "../parts/states";
import { plain, primary, takesSmall } from "../parts/styles";
import { ownPages } from "../wire";
import { addSecret, listSecrets, removeSecret } from "./queries";

// The secrets with which the shop signs.
export function Secrets() {
  const list = useQuery({ queryKey: key("events", "secrets"), queryFn: listSecrets });
  const [made, setMade] = useState("");
  const [removing, setRemoving] = useState<number>();
  const act = useAct("events");
  const make = (grace?: number) => act.run(() => addSecret(grace).then((s) => (setMade(s.secret), "Secret created.")));
  if (list.isPending) return <Loading what="the secrets" />;
  if (list.error) return <Broken what="secrets" error={list.error} retry={() => list.refetch()} />;
  return (
    <div className="flex flex-col gap-4">
      <p>
        The shop sends its events to <code className="wrap-anywhere">{new URL(ownPages + "events", location.href).href}</code>, signed with
        a shared secret as described in the Standard Webhooks specification.
      </p>
      {list.data.length === 0 ? (
        <p className="text-soft">There is no secret yet, so all events are rejected.</p>
      ) : (
        <ul>
          {list.data.map((s) => (
            <li key={s.id} className="flex items-center justify-between gap-4 border-b border-line py-2">
              <span>
                Secret {s.id}{" "}
                <span className="text-soft">
                  made {when(s.madeAt)} by {s.madeBy}
                  {s.until && `; valid until ${when(s.until)}`}
                </span>
              </span>
              <button type="button" className={takesSmall} onClick={() => setRemoving(s.id)}>
                Remove
              </button>
            </li>
          ))}
        </ul>
      )}
      {made && <Secret label="Copy it to the shop. It is shown only once." text={made} />}
      <div className="flex flex-wrap gap-2">
        <button type="button" className={primary} disabled={act.busy} onClick={() => make()}>
          Create a secret
        </button>
        {list.data.length > 0 && (
          <button type="button" className={plain} disabled={act.busy} onClick={() => make(86_400)}>
            Create a new one; earlier ones expire in a day
          </button>
        )}
      </div>
      {removing === undefined && <Said act={act} />}
      <Ask
        question={removing !== undefined ? `Remove secret ${removing}?` : undefined}
        text="From now on, events signed with it are rejected."
        yes="Remove secret"
        busy={act.busy}
        error={act.error}
        onYes={() => act.run(() => removeSecret(removing!).then(() => (setRemoving(undefined), "Removed.")))}
        onNo={() => {
          act.reset();
          setRemoving(undefined);
        }}
      />
    </div>
  );
}
