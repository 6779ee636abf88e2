import { useState } from "react";
import { editEntry, removeEntry, setEntryDisabled, setEntryPassword } from "./queries";
import { Said, useAct } from "../parts/act";
import { Ask } from "../parts/dialog";
import { typed, when } from "../parts/format";
import { Secret } from "../parts/secret";
import { field, plain, takes } from "../parts/styles";
import { generate } from "../passwords/queries";
import type { Entry } from "../schema";

export function EntryDetails({ ring, entry: e, onGone }: { ring: string; entry: Entry; onGone: () => void }) {
  const [grace, setGrace] = useState("0");
  const [secret, setSecret] = useState("");
  const [asking, setAsking] = useState(false);
  const [disabled, setDisabled] = useState(e.disabled);
  const [terms, setTerms] = useState({ note: e.note ?? "", until: e.until ? typed(e.until) : "" });
  const [edit, another, state] = [useAct("keyrings"), useAct("keyrings"), useAct("keyrings")];
  return (
    <div className="flex flex-col gap-4">
      <p className="text-soft">
        Made {when(e.madeAt)} by {e.madeBy}.
      </p>
      <form
        className="flex flex-col gap-3"
        onSubmit={(event) => {
          event.preventDefault();
          edit.run(async () => {
            await editEntry(ring, e.name, {
              note: terms.note,
              ...(terms.until
                ? terms.until !== (e.until && typed(e.until))
                  ? { until: new Date(terms.until).toISOString() }
                  : {}
                : { endless: true }),
            });
            return "Changed. The password stays.";
          });
        }}
      >
        <label className="flex flex-col gap-1 text-sm text-soft">
          For whom or what
          <input className={`${field} text-base`} value={terms.note} onChange={(x) => setTerms({ ...terms, note: x.target.value })} />
        </label>
        <label className="flex flex-col gap-1 text-sm text-soft">
          Until, if it is to end
          <input
            type="datetime-local"
            className={`${field} w-fit text-base`}
            value={terms.until}
            onChange={(x) => setTerms({ ...terms, until: x.target.value })}
          />
        </label>
        <div>
          <button type="submit" className={plain} disabled={edit.busy}>
            Save
          </button>
          <Said act={edit} />
        </div>
      </form>
      <section className="flex flex-col gap-3">
        <h3 className="font-bold">Another password</h3>
        {secret && <Secret label="The new password, shown this once:" text={secret} />}
        <label className="flex items-center gap-2 text-soft">
          The one before counts
          <select className={field} value={grace} onChange={(x) => setGrace(x.target.value)}>
            <option value="0">no longer</option>
            <option value="3600">for another hour</option>
            <option value="86400">for another day</option>
            <option value="604800">for another week</option>
          </select>
        </label>
        <div>
          <button
            type="button"
            className={plain}
            disabled={another.busy}
            onClick={() =>
              another.run(async () => {
                const { password } = await generate();
                await setEntryPassword(ring, e.name, password, Number(grace));
                setSecret(password);
                return "It has another password.";
              })
            }
          >
            Generate another
          </button>
          <Said act={another} />
        </div>
      </section>
      <section className="flex flex-wrap gap-2 border-t border-line pt-5">
        <button
          type="button"
          className={disabled ? plain : takes}
          disabled={state.busy}
          onClick={() =>
            state.run(async () => {
              await setEntryDisabled(ring, e.name, !disabled);
              setDisabled(!disabled);
              return disabled ? "Enabled." : "Disabled: with the next request it opens nothing.";
            })
          }
        >
          {disabled ? "Enable" : "Disable"}
        </button>
        <button type="button" className={takes} onClick={() => setAsking(true)}>
          Remove
        </button>
      </section>
      {!asking && <Said act={state} />}
      <Ask
        question={asking ? `Remove ${e.name} from ${ring}?` : undefined}
        text="With the next request it opens nothing. There is no way back."
        yes="Remove it"
        busy={state.busy}
        error={state.error}
        onYes={() =>
          state.run(async () => {
            await removeEntry(ring, e.name);
            onGone();
          })
        }
        onNo={() => {
          state.reset();
          setAsking(false);
        }}
      />
      <p className="text-sm text-soft">Changes hold at once, also for browsers that remember the old password.</p>
    </div>
  );
}
