import { key, type Kept } from "../parts/keys";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Said, useAct } from "../parts/act";
import { Ask } from "../parts/dialog";
import { ago, ends } from "../parts/format";
import { Broken, Loading } from "../parts/states";
import { takes, takesSmall } from "../parts/styles";
import type { SharedPassword } from "../schema";
import { endUnlock, endUnlocks, listUnlocks, withdrawShared } from "./queries";

// The browsers in which a shared password was typed, and the ways to end that.
export function Unlocked({ of: s }: { of: SharedPassword }) {
  const list = useQuery({ queryKey: key("unlocks", s.name), queryFn: () => listUnlocks(s.name) });
  const [asking, setAsking] = useState<"all" | "password">();
  const stale: Kept[] = ["unlocks", "shared"];
  const [one, all] = [useAct(...stale), useAct(...stale)];
  const close = () => {
    all.reset();
    setAsking(undefined);
  };
  if (list.isPending) return <Loading what="the browsers" />;
  if (list.error) return <Broken what="browsers" error={list.error} retry={() => list.refetch()} />;
  const { unlocks, total } = list.data;
  return (
    <div className="flex flex-col gap-4">
      {total === 0 ? (
        <p className="text-soft">Nowhere right now.</p>
      ) : (
        <ul>
          {unlocks.map((u) => (
            <li key={u.handle} className="flex items-start justify-between gap-4 border-b border-line py-2">
              <div className="min-w-0">
                <p>
                  {ago(u.madeAt)}{" "}
                  <span className="text-soft">
                    from {u.network || "an unknown address"}
                    {u.account && `, signed in as ${u.account}`}
                  </span>
                </p>
                <p className="text-sm text-soft wrap-anywhere">
                  {u.agent || "unknown browser"}
                  {u.until && ` · until ${ends(u.until)}`}
                </p>
              </div>
              <button
                type="button"
                className={takesSmall}
                disabled={one.busy}
                aria-label={`End the unlock from ${u.network}`}
                onClick={() => one.run(() => endUnlock(u.handle).then(() => "Ended. The password is asked for again immediately."))}
              >
                End
              </button>
            </li>
          ))}
        </ul>
      )}
      {total > unlocks.length && <p className="text-soft">and {total - unlocks.length} more</p>}
      <Said act={one} />
      <div className="flex flex-wrap gap-2 border-t border-line pt-4">
        {total > 0 && (
          <button type="button" className={takes} onClick={() => setAsking("all")}>
            End all
          </button>
        )}
        {s.passwords.length > 0 && (
          <button type="button" className={takes} onClick={() => setAsking("password")}>
            Withdraw the password
          </button>
        )}
      </div>
      <Ask
        question={
          asking === "all"
            ? `End all ${total} unlocks of ${s.title}?`
            : asking === "password"
              ? `Withdraw the password of ${s.title}?`
              : undefined
        }
        text={
          asking === "all"
            ? "The password is asked for again immediately. It stays valid."
            : "It stops working for everyone until you set a new one. All unlocks end, too."
        }
        yes={asking === "all" ? "End all" : "Withdraw password"}
        busy={all.busy}
        error={all.error}
        onYes={() =>
          all.run(async () => {
            await (asking === "all" ? endUnlocks(s.name) : withdrawShared(s.name));
            setAsking(undefined);
          })
        }
        onNo={close}
      />
    </div>
  );
}
