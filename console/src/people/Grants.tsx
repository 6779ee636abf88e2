import { key } from "../parts/keys";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { me } from "../frame/queries";
import { Ask } from "../parts/dialog";
import { ends, when } from "../parts/format";
import { field, plain, takesSmall } from "../parts/styles";
import type { Grant } from "../schema";

export function Grants({
  name,
  grants,
  act,
  onRevoke,
}: {
  name: string;
  grants: Grant[];
  act: { busy: boolean; error: Error | null; reset: () => void };
  onRevoke: (role: string, done: () => void) => void;
}) {
  const [asking, setAsking] = useState<string>();
  const who = useQuery({ queryKey: key("me"), queryFn: me });
  const own = who.data?.name === name;
  if (grants.length === 0) return <p className="text-soft">None.</p>;
  const now = Date.now();
  return (
    <ul>
      {grants.map((g) => {
        const state =
          new Date(g.from).getTime() > now ? `from ${when(g.from)}` : g.until && new Date(g.until).getTime() <= now ? "ended" : "";
        return (
          <li key={g.role} className="flex items-center justify-between gap-4 border-b border-line py-1.5">
            <span className="min-w-0 wrap-anywhere">
              <strong className={state ? "text-soft" : ""}>{g.role}</strong>{" "}
              <span className="text-sm text-soft">
                {state} {g.until ? `until ${ends(g.until)}` : "no end"}, by {g.by}
              </span>
            </span>
            <button type="button" className={takesSmall} onClick={() => setAsking(g.role)} aria-label={`Revoke the role ${g.role}`}>
              Revoke
            </button>
          </li>
        );
      })}
      <Ask
        question={asking && `Revoke the role ${asking} from ${own ? "yourself" : name}?`}
        text={
          own
            ? "You lose access immediately, and may not be able to grant it to yourself again."
            : "They lose access immediately. You can grant the role again."
        }
        yes="Revoke role"
        busy={act.busy}
        error={act.error}
        onYes={() => onRevoke(asking!, () => setAsking(undefined))}
        onNo={() => {
          act.reset();
          setAsking(undefined);
        }}
      />
    </ul>
  );
}

export function GrantForm({ roles, onGrant }: { roles: string[]; onGrant: (g: { role: string; from?: string; until?: string }) => void }) {
  const [role, setRole] = useState("");
  const [from, setFrom] = useState("");
  const [until, setUntil] = useState("");
  return (
    <form
      className="mt-3 flex flex-wrap items-end gap-3"
      onSubmit={(e) => {
        e.preventDefault();
        onGrant({ role, from: from ? new Date(from).toISOString() : undefined, until: until ? new Date(until).toISOString() : undefined });
        setRole("");
      }}
    >
      <label className="flex flex-col gap-1 text-sm text-soft">
        Grant
        <select className={field} value={role} onChange={(e) => setRole(e.target.value)} required>
          <option value="">a role</option>
          {roles.map((r) => (
            <option key={r}>{r}</option>
          ))}
        </select>
      </label>
      <label className="flex flex-col gap-1 text-sm text-soft">
        from
        <input type="datetime-local" className={field} value={from} onChange={(e) => setFrom(e.target.value)} />
      </label>
      <label className="flex flex-col gap-1 text-sm text-soft">
        until
        <input type="datetime-local" className={field} value={until} onChange={(e) => setUntil(e.target.value)} />
      </label>
      <button type="submit" className={plain} disabled={!role}>
        Grant
      </button>
    </form>
  );
}
