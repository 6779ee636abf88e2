import { key } from "../parts/keys";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Drawer } from "../parts/dialog";
import { ago, when } from "../parts/format";
import { Broken, Heading, Loading } from "../parts/states";
import { plain, primary } from "../parts/styles";
import type { SharedPassword } from "../schema";
import { ChangeForm } from "./ChangeForm";
import { getShared } from "./queries";
import { TellForm } from "./TellForm";
import { Unlocked } from "./Unlocked";

type Doing = { what: "change" | "tell" | "unlocked"; name: string; password?: string };

// One password that opens a door for all who have it.
export function SharedPage() {
  const list = useQuery({ queryKey: key("shared"), queryFn: getShared });
  const [doing, setDoing] = useState<Doing>();
  const one = list.data?.find((s) => s.name === doing?.name);
  const close = () => setDoing(undefined);
  return (
    <>
      <Heading title="Shared passwords">
        One password for everyone who should see a page or area, without an account. Shared passwords are declared in the policy and set
        here. Only their hashes are stored.
      </Heading>
      {list.isPending ? (
        <Loading what="the shared passwords" />
      ) : list.error ? (
        <Broken what="shared passwords" error={list.error} retry={() => list.refetch()} />
      ) : list.data.length === 0 ? (
        <p className="py-8 text-soft">
          The policy has no shared passwords. <code>shared: {"{ press-kit: { title: Press kit, lasts: 7d } }"}</code> adds one. You can also
          protect a place with a shared password on the Site page.
        </p>
      ) : (
        list.data.map((s) => (
          <section key={s.name} className="mb-10 max-w-4xl border-t border-line pt-5" aria-labelledby={`shared-${s.name}`}>
            <h2 id={`shared-${s.name}`} className="text-lg font-bold">
              {s.title} <span className="text-base font-normal text-soft">{s.gone ? "is no longer in the policy" : s.name}</span>
            </h2>
            <dl className="mt-3 mb-4 grid grid-cols-[9rem_1fr] gap-y-1 max-md:grid-cols-1">
              {s.place && (
                <>
                  <dt className="text-soft">Opens</dt>
                  <dd>
                    <a className="underline underline-offset-2" href={s.place}>
                      {s.place}
                    </a>
                  </dd>
                </>
              )}
              <dt className="text-soft">Password</dt>
              <dd>
                <Passwords of={s} />
              </dd>
              <dt className="text-soft">Unlocked</dt>
              <dd>
                <button
                  type="button"
                  className="cursor-pointer underline underline-offset-2"
                  onClick={() => setDoing({ what: "unlocked", name: s.name })}
                >
                  {s.unlocks === 0 ? "nowhere right now" : `in ${s.unlocks} ${s.unlocks === 1 ? "browser" : "browsers"}`}
                </button>
                {!s.gone && <span className="text-soft"> · an unlock lasts {lasts(s.lasts)}</span>}
              </dd>
            </dl>
            {!s.gone && (
              <div className="flex flex-wrap gap-2">
                <button
                  type="button"
                  className={s.passwords.length === 0 ? primary : plain}
                  onClick={() => setDoing({ what: "change", name: s.name })}
                >
                  {s.passwords.length === 0 ? "Set a password" : "Change the password"}
                </button>
                {s.passwords.length > 0 && (
                  <button type="button" className={plain} onClick={() => setDoing({ what: "tell", name: s.name })}>
                    Send to people
                  </button>
                )}
              </div>
            )}
          </section>
        ))
      )}
      <Drawer
        open={doing?.what === "change"}
        title={one && (one.passwords.length === 0 ? `A password for ${one.title}` : `New password for ${one.title}`)}
        onClose={close}
      >
        {one && doing?.what === "change" && (
          <ChangeForm of={one} onDone={close} onTell={(password) => setDoing({ what: "tell", name: one.name, password })} />
        )}
      </Drawer>
      <Drawer open={doing?.what === "tell"} title={one && `Send the password of ${one.title}`} onClose={close}>
        {one && doing?.what === "tell" && <TellForm of={one} password={doing.password} onDone={close} />}
      </Drawer>
      <Drawer open={doing?.what === "unlocked"} title={one && `Where ${one.title} is unlocked`} onClose={close}>
        {one && doing?.what === "unlocked" && <Unlocked of={one} />}
      </Drawer>
    </>
  );
}

function Passwords({ of: s }: { of: SharedPassword }) {
  const [now, ...before] = s.passwords;
  if (!now) return <span className="font-bold text-ask">not set, so nobody can get in</span>;
  return (
    <>
      <span className="text-good">set {ago(now.madeAt)}</span>{" "}
      <span className="text-soft">
        by {now.madeBy}, {now.usedAt ? `last used ${ago(now.usedAt)}` : "not used yet"}
      </span>
      {before.map((p) => (
        <span key={p.madeAt} className="block text-ask">
          the previous one also works until {p.until && when(p.until)}
        </span>
      ))}
    </>
  );
}

const lasts = (text: string) => (text === "0" ? "until the browser is closed" : text === "forever" ? "forever" : `for ${text}`);
