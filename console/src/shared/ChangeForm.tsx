import { key } from "../parts/keys";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Finished, FormEnd } from "../parts/form";
import { Secret } from "../parts/secret";
import { field, primary } from "../parts/styles";
import { NewSecret } from "../passwords/NewSecret";
import type { SharedPassword } from "../schema";
import { setShared } from "./queries";

// A password for a shared password, or another one.
export function ChangeForm({ of: s, onDone, onTell }: { of: SharedPassword; onDone: () => void; onTell: (password: string) => void }) {
  const queries = useQueryClient();
  const [first] = useState(s.passwords.length === 0);
  const [password, setPassword] = useState("");
  const [grace, setGrace] = useState("0");
  const [end, setEnd] = useState(true);
  const set = useMutation({
    mutationFn: async () => {
      await setShared(s.name, { password, grace: Number(grace), endUnlocks: !first && end });
      void queries.invalidateQueries({ queryKey: key("shared") });
    },
  });
  if (set.isSuccess) {
    return (
      <Finished
        said={`${s.title} has a ${first ? "" : "new "}password.`}
        onDone={onDone}
        also={
          <button type="button" className={primary} onClick={() => onTell(password)}>
            Send it to people
          </button>
        }
      >
        <Secret label="It is shown only once. Save it now, or send it right away:" text={password} />
      </Finished>
    );
  }
  return (
    <form
      className="flex flex-col gap-5"
      onSubmit={(e) => {
        e.preventDefault();
        set.mutate();
      }}
    >
      <NewSecret name={s.title} value={password} onChange={setPassword} />
      {!first && (
        <>
          <label className="flex items-center gap-2 text-soft">
            The previous password works
            <select
              className={field}
              value={grace}
              onChange={(x) => {
                setGrace(x.target.value);
                setEnd(x.target.value === "0");
              }}
            >
              <option value="0">no longer</option>
              <option value="86400">for another day</option>
              <option value="259200">for another three days</option>
              <option value="604800">for another week</option>
            </select>
          </label>
          {s.unlocks > 0 && (
            <label className="flex items-center gap-2 text-soft">
              <input type="checkbox" className="h-4 w-4 accent-brass" checked={end} onChange={(e) => setEnd(e.target.checked)} />
              It has to be entered again where it is unlocked now ({s.unlocks} {s.unlocks === 1 ? "browser" : "browsers"})
            </label>
          )}
        </>
      )}
      <FormEnd yes={first ? "Set the password" : "Change the password"} busy={set.isPending || !password} error={set.error} onNo={onDone} />
    </form>
  );
}
