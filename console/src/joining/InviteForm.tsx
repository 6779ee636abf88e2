import { key } from "../parts/keys";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Added, FormEnd } from "../parts/form";
import { when } from "../parts/format";
import { field } from "../parts/styles";
import type { NewInvitation } from "../schema";
import { invite } from "./queries";

const day = 24 * 3600;

// An invitation: to whom, as what, until when, and how it gets there.
export function InviteForm({ roles, sends, onDone }: { roles: string[]; sends: boolean; onDone: () => void }) {
  const queries = useQueryClient();
  const [email, setEmail] = useState("");
  const [chosen, setChosen] = useState<string[]>([]);
  const [ends, setEnds] = useState("");
  const [days, setDays] = useState(14);
  const [language, setLanguage] = useState<NonNullable<NewInvitation["language"]>>("en");
  const [mail, setMail] = useState(sends);
  const act = useMutation({
    mutationFn: async () => {
      const last = new Date(ends + "T00:00"); // that day included
      if (ends) last.setDate(last.getDate() + 1);
      return invite({ email, roles: chosen, lasts: days * day, language, mail, ...(ends ? { ends: last.toISOString() } : {}) });
    },
    onSuccess: () => {
      for (const name of ["joining", "messages"] as const) void queries.invalidateQueries({ queryKey: key(name) });
    },
  });
  if (act.data?.path)
    return (
      <Added
        name={`The invitation to ${email}`}
        secret={{
          label: `Give this link only to ${email}. It creates one account and is valid until ${when(act.data.until)}.`,
          text: location.origin + act.data.path,
        }}
        onDone={onDone}
      />
    );
  if (act.data)
    return (
      <Added name={`The invitation to ${email}`} onDone={onDone}>
        <p>It was sent and is valid until {when(act.data.until)}.</p>
      </Added>
    );
  return (
    <form
      className="flex flex-col gap-4"
      onSubmit={(e) => {
        e.preventDefault();
        act.mutate();
      }}
    >
      <label className="flex flex-col gap-1 text-sm text-soft">
        E-mail address
        <input
          type="email"
          className={`${field} text-base`}
          value={email}
          onChange={(e) => setEmail(e.target.value)}
          required
          autoComplete="off"
          data-autofocus
        />
      </label>
      <fieldset>
        <legend className="mb-1 text-sm text-soft">Roles, in addition to those that everyone gets</legend>
        <div className="flex flex-wrap gap-x-5 gap-y-1">
          {roles.map((r) => (
            <label key={r} className="flex items-center gap-2">
              <input
                type="checkbox"
                className="h-4 w-4 accent-brass"
                checked={chosen.includes(r)}
                onChange={(e) => setChosen(e.target.checked ? [...chosen, r] : chosen.filter((c) => c !== r))}
              />{" "}
              {r}
            </label>
          ))}
        </div>
      </fieldset>
      <div className="flex flex-wrap gap-4">
        <label className="flex flex-col gap-1 text-sm text-soft">
          Roles end after (empty: never)
          <input type="date" className={field} value={ends} onChange={(e) => setEnds(e.target.value)} />
        </label>
        <label className="flex flex-col gap-1 text-sm text-soft">
          Invitation is valid for days
          <input
            type="number"
            min={1}
            max={365}
            className={`${field} w-24`}
            value={days}
            onChange={(e) => setDays(Number(e.target.value))}
            required
          />
        </label>
        <label className="flex flex-col gap-1 text-sm text-soft">
          Language of the e-mail
          <select className={field} value={language} onChange={(e) => setLanguage(e.target.value as typeof language)}>
            <option value="en">English</option>
            <option value="de">Deutsch</option>
          </select>
        </label>
      </div>
      {sends && (
        <label className="flex items-center gap-2">
          <input type="checkbox" className="h-4 w-4 accent-brass" checked={mail} onChange={(e) => setMail(e.target.checked)} /> Send it by
          e-mail. Otherwise the link is shown here once.
        </label>
      )}
      <FormEnd yes={mail ? "Send invitation" : "Create link"} busy={act.isPending} error={act.error} onNo={onDone} />
    </form>
  );
}
