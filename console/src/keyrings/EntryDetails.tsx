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
            return "Saved. The password is unchanged.";
          });
        }}
      >
        <label className="flex flex-col gap-1 text-sm text-soft">
          Purpose
          <input className={`${field} text-base`} value={terms.note} onChange={(x) => setTerms({ ...terms, note: x.target.value })} />
        </label>
        <label className="flex flex-col gap-1 text-sm text-soft">
          Ends on (optional)
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
        <h3 className="font-bold">New password</h3>
        {secret && <Secret label="The new password. It is shown only once:" text={secret} />}
        <label className="flex items-center gap-2 text-soft">
          The previous password works
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
                return "Password changed.";
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
              return disabled ? "Enabled." : "Disabled. It stops working immediately.";
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
        text="It stops working immediately. You can't undo this."
        yes="Remove name"
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
      <p className="text-sm text-soft">Changes take effect immediately, even in browsers that remember the old password.</p>
    </div>
  );
}
