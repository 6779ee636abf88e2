import { key } from "../parts/keys";
import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Added, FormEnd } from "../parts/form";
import { when } from "../parts/format";
import { useSettled } from "../parts/hooks";
import { field } from "../parts/styles";
import { estimate, generate } from "../passwords/queries";
import { addPerson, makeLink } from "./queries";

const words = { refused: "text-bad", weak: "text-bad", fair: "text-ask", good: "text-good", strong: "text-good" };

export function NewPersonForm({ roles, onDone }: { roles: string[]; onDone: () => void }) {
  const queries = useQueryClient();
  const [p, setP] = useState({ name: "", email: "", notes: "", anyway: false });
  const [chosen, setChosen] = useState<string[]>([]);
  const [way, setWay] = useState<"link" | "generate" | "type">("link");
  const [password, setPassword] = useState("");
  const settled = useSettled({ password, name: p.name }, 250);
  const strength = useQuery({
    queryKey: key("strength", settled),
    queryFn: () => estimate(settled.password, settled.name),
    enabled: way === "type" && settled.password !== "",
    placeholderData: keepPreviousData,
    gcTime: 0,
  });
  const add = useMutation({
    mutationFn: async () => {
      const secret = way === "generate" ? (await generate({ words: 5 })).password : way === "type" ? password : "";
      await addPerson({ ...p, password: secret, roles: chosen });
      void queries.invalidateQueries({ queryKey: key("people") });
      if (way === "generate") return { label: `The password of ${p.name}. It is shown only once:`, text: secret };
      if (way === "link") {
        const l = await makeLink(p.name);
        return {
          label: `Give this link only to ${p.name}. It sets the password once and is valid until ${when(l.until)}.`,
          text: location.origin + l.path,
        };
      }
      return undefined;
    },
  });
  if (add.isSuccess) return <Added name={p.name} secret={add.data} onDone={onDone} />;
  return (
    <form
      className="flex flex-col gap-4"
      onSubmit={(e) => {
        e.preventDefault();
        add.mutate();
      }}
    >
      <label className="flex flex-col gap-1 text-sm text-soft">
        Name
        <input
          className={`${field} text-base`}
          value={p.name}
          onChange={(e) => setP({ ...p, name: e.target.value, anyway: false })}
          required
          autoComplete="off"
          spellCheck={false}
          data-autofocus
        />
      </label>
      {(p.anyway || (add.isError && add.error.message.includes("anyway"))) && (
        <label className="flex items-center gap-2">
          <input
            type="checkbox"
            className="h-4 w-4 accent-brass"
            checked={p.anyway}
            onChange={(e) => setP({ ...p, anyway: e.target.checked })}
          />{" "}
          Use this name anyway
        </label>
      )}
      <label className="flex flex-col gap-1 text-sm text-soft">
        E-mail address (optional)
        <input
          type="email"
          className={`${field} text-base`}
          value={p.email}
          onChange={(e) => setP({ ...p, email: e.target.value })}
          autoComplete="off"
        />
      </label>
      <fieldset>
        <legend className="mb-1 text-sm text-soft">Roles</legend>
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
      <fieldset>
        <legend className="mb-1 text-sm text-soft">Password</legend>
        {(
          [
            ["link", "a link to set it, once"],
            ["generate", "generated, shown once"],
            ["type", "entered here"],
          ] as const
        ).map(([value, label]) => (
          <label key={value} className="flex items-center gap-2">
            <input type="radio" name="way" className="h-4 w-4 accent-brass" checked={way === value} onChange={() => setWay(value)} />{" "}
            {label}
          </label>
        ))}
        {way === "type" && (
          <div className="mt-2">
            <input
              type="password"
              className={`${field} w-full`}
              aria-label="Password"
              value={password}
              onChange={(e) => setPassword(e.target.value)}
              autoComplete="new-password"
              required
            />
            <p className="mt-1 min-h-12 text-sm" role="status">
              {password && strength.data && (
                <>
                  <span className={`font-bold ${words[strength.data.word]}`}>{strength.data.word}</span>{" "}
                  <span className="text-soft">{strength.data.advice ?? guesses(strength.data.bits)}</span>
                </>
              )}
            </p>
          </div>
        )}
      </fieldset>
      <FormEnd yes="Add" busy={add.isPending} error={add.error} onNo={onDone} />
    </form>
  );
}

/** How long it takes to guess, in words: of somebody who has stolen the records and tries a million a second. */
function guesses(bits: number): string {
  const years = 2 ** (bits - 1) / 1e6 / 3600 / 24 / 365;
  if (years < 1 / 365) return "could be guessed within a day if the database is stolen";
  if (years < 1) return "could be guessed within a year if the database is stolen";
  if (years < 1000) return "could be guessed within a few years if the database is stolen";
  return "couldn't be guessed in a thousand years, even if the database is stolen";
}
