import { key } from "../parts/keys";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Said, useAct } from "../parts/act";
import { Ask } from "../parts/dialog";
import { ago, when } from "../parts/format";
import { Secret } from "../parts/secret";
import { Broken } from "../parts/states";
import { field, plain, takesSmall } from "../parts/styles";
import type { AccessKey } from "../schema";
import { addKey, listKeys, removeKey } from "./queries";

const day = 24 * 3600 * 1000;

// The keys with which programs come as somebody.
export function PersonKeys({ name, roles }: { name: string; roles: string[] }) {
  const keys = useQuery({ queryKey: key("access-keys", name), queryFn: () => listKeys(name) });
  const [making, setMaking] = useState(false);
  const [made, setMade] = useState<string>();
  const [removing, setRemoving] = useState<AccessKey>();
  const act = useAct("access-keys");
  return (
    <section>
      <h3 className="mb-2 font-bold">Access keys</h3>
      {keys.error && <Broken what="access keys" error={keys.error} retry={() => keys.refetch()} />}
      {made && <Secret label="The key. It is shown only once:" text={made} />}
      <ul className="mb-2 min-h-6">
        {keys.data?.keys.length === 0 && <li className="text-soft">No program can act as {name}.</li>}
        {keys.data?.keys.map((k) => (
          <li key={k.handle} className="flex items-start justify-between gap-4 py-1">
            <span>
              {k.name}
              <span className="block text-sm text-soft">
                {k.allRoles ? "all roles" : k.roles.join(", ") || "no role"};{" "}
                {k.ended ? "ended" : k.until ? `until ${when(k.until)}` : "no end"};{" "}
                {k.usedAt ? `used ${ago(k.usedAt)} from ${k.usedFrom}` : "never used"}
                {k.networks.length > 0 && `; from ${k.networks.join(", ")} only`}
              </span>
            </span>
            <button type="button" className={takesSmall} onClick={() => setRemoving(k)} aria-label={`Remove the access key ${k.name}`}>
              Remove
            </button>
          </li>
        ))}
      </ul>
      {making ? (
        <form
          className="flex flex-col gap-2"
          onSubmit={(e) => {
            e.preventDefault();
            const f = new FormData(e.currentTarget);
            const carried = f.getAll("role").map(String);
            const days = Number(f.get("days"));
            void act.run(async () => {
              const key = await addKey({
                account: name,
                name: String(f.get("name")),
                roles: carried,
                noRoles: carried.length === 0,
                networks: String(f.get("networks"))
                  .split(/[\s,]+/)
                  .filter(Boolean),
                until: days > 0 ? new Date(Date.now() + days * day).toISOString() : undefined,
              });
              setMade(key.token);
              setMaking(false);
              return "";
            });
          }}
        >
          <label className="flex flex-col gap-1">
            What it is for
            <input name="name" className={field} required maxLength={60} autoFocus />
          </label>
          <label className="flex flex-col gap-1">
            Valid for days (empty: no end)
            <input name="days" className={field} inputMode="numeric" pattern="[0-9]{0,4}" defaultValue="90" />
          </label>
          <label className="flex flex-col gap-1">
            Allowed networks (empty: all)
            <input name="networks" className={field} placeholder="192.0.2.0/24" />
          </label>
          <fieldset className="flex flex-wrap gap-4">
            <legend className="mb-1">Roles of this key</legend>
            {roles.map((r) => (
              <label key={r} className="flex items-center gap-2">
                <input type="checkbox" name="role" value={r} className="h-4 w-4 accent-brass" />
                {r}
              </label>
            ))}
          </fieldset>
          <div className="flex gap-2">
            <button type="submit" className={plain} disabled={act.busy}>
              Create key
            </button>
            <button type="button" className={plain} onClick={() => setMaking(false)}>
              Cancel
            </button>
          </div>
        </form>
      ) : (
        <button
          type="button"
          className={plain}
          onClick={() => {
            act.reset();
            setMade(undefined);
            setMaking(true);
          }}
        >
          Create a key
        </button>
      )}
      {!removing && <Said act={act} />}
      <Ask
        question={removing && `Remove the access key ${removing.name}?`}
        text="Programs that use this key lose access immediately. You can't undo this."
        yes="Remove key"
        busy={act.busy}
        error={act.error}
        onYes={() =>
          act.run(async () => {
            if (removing) await removeKey(removing.handle);
            setRemoving(undefined);
            return "Key removed.";
          })
        }
        onNo={() => {
          act.reset();
          setRemoving(undefined);
        }}
      />
    </section>
  );
}
