import { key } from "../parts/keys";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Said, useAct } from "../parts/act";
import { Ask } from "../parts/dialog";
import { ago, when } from "../parts/format";
import { Broken } from "../parts/states";
import { plain, takes } from "../parts/styles";
import { dropReset, getFactors, resetFactors } from "./queries";

const wanted: Record<string, string> = { passkey: "a passkey", code: "codes from an app", two: "a second factor" };

// What somebody has set up beside their password, and the way back when they have lost it.
export function PersonFactors({ name }: { name: string }) {
  const held = useQuery({ queryKey: key("person", name, "factors"), queryFn: () => getFactors(name) });
  const act = useAct("person");
  const [asking, setAsking] = useState(false);
  const h = held.data;
  const some = h && (h.passkeys.length > 0 || h.code);
  return (
    <section>
      <h3 className="mb-2 font-bold">Passkeys and codes</h3>
      {h?.elsewhere.map((l) => (
        <p key={l.provider} className="mb-2 text-soft">
          Signs in with {l.provider}, as {l.knownAs}, since {when(l.madeAt)}
          {l.usedAt && `, last ${ago(l.usedAt)}`}.
        </p>
      ))}
      {held.error && <Broken what="passkeys and codes" error={held.error} retry={() => held.refetch()} />}
      <div className="mb-2 min-h-6 text-soft">
        {h && !some && <p>No second factor is set up{h.wanted && `, but ${wanted[h.wanted]} is required`}.</p>}
        {h && some && (
          <ul>
            {h.passkeys.map((k) => (
              <li key={k.name + k.madeAt}>
                Passkey “{k.name}”, since {when(k.madeAt)}, {k.usedAt ? `used ${ago(k.usedAt)}` : "never used"}
              </li>
            ))}
            {h.code && <li>Codes from an app, since {when(h.code)}</li>}
            <li>
              {h.kept} {h.kept === 1 ? "code" : "codes"} backup codes left
              {h.browsers > 0 && `; remembered in ${h.browsers} ${h.browsers === 1 ? "browser" : "browsers"}`}
            </li>
          </ul>
        )}
        {h?.reset && (
          <p className="mt-2 border-l-4 border-line pl-4" role="status">
            They will be removed {when(h.reset)}, as {h.resetBy} has asked.
          </p>
        )}
      </div>
      {h?.reset ? (
        <button
          type="button"
          className={plain}
          disabled={act.busy}
          onClick={() => act.run(() => dropReset(name).then(() => `${name} keeps them.`))}
        >
          Keep them
        </button>
      ) : (
        <button type="button" className={takes} disabled={act.busy || !some} onClick={() => setAsking(true)}>
          Remove them
        </button>
      )}
      {!asking && <Said act={act} />}
      <Ask
        question={asking ? `Remove the passkeys and codes of ${name}?` : undefined}
        text={
          "Until they set up new ones, the password alone is enough to sign in. They are informed by e-mail. First make sure " +
          "that the request really comes from them."
        }
        yes="Remove them"
        busy={act.busy}
        error={act.error}
        onYes={() =>
          act.run(async () => {
            const { due } = await resetFactors(name);
            setAsking(false);
            return due ? `They will be removed ${when(due)}. Until then, ${name} can stop this.` : "Removed. All sessions have ended.";
          })
        }
        onNo={() => {
          act.reset();
          setAsking(false);
        }}
      />
    </section>
  );
}
