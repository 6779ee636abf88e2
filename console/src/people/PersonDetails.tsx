import { key, type Kept } from "../parts/keys";
import { Link } from "react-router";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { PersonKeys } from "../accesskeys/PersonKeys";
import { PersonFactors } from "../factors/PersonFactors";
import { Said, useAct } from "../parts/act";
import { Ask } from "../parts/dialog";
import { ago, when } from "../parts/format";
import { Secret } from "../parts/secret";
import { Broken, Loading } from "../parts/states";
import { plain, takes } from "../parts/styles";
import { generate } from "../passwords/queries";
import { EditForm } from "./EditForm";
import { GrantForm, Grants } from "./Grants";
import { PersonState } from "./PersonState";
import {
  editPerson,
  endSessionsOf,
  getPerson,
  grantRole,
  mailLink,
  makeLink,
  removePerson,
  revokeRole,
  setDisabled,
  setPassword,
} from "./queries";
import { listSessions } from "../sessions/queries";

export function PersonDetails({
  name,
  roles,
  onGone,
  onRenamed,
}: {
  name: string;
  roles: string[];
  onGone: () => void;
  onRenamed: (name: string) => void;
}) {
  const person = useQuery({ queryKey: key("person", name), queryFn: () => getPerson(name) });
  const sessions = useQuery({ queryKey: key("sessions", "of", name), queryFn: () => listSessions({ account: name, offset: 0 }) });
  const [asking, setAsking] = useState<"remove" | "disable">();
  const [secret, setSecret] = useState<{ label: string; text: string }>();
  const stale: Kept[] = ["person", "people", "sessions"];
  const [edit, role, password, ending, state] = [useAct(...stale), useAct(...stale), useAct(...stale), useAct(...stale), useAct(...stale)];
  const close = () => {
    state.reset();
    setAsking(undefined);
  };
  if (person.isPending) return <Loading what="the account" />;
  if (person.error) return <Broken what="account" error={person.error} retry={() => person.refetch()} />;
  const p = person.data;
  return (
    <div className="flex flex-col gap-4">
      <div>
        <PersonState person={p} />
        <span className="text-soft">
          {" "}
          · created {when(p.madeAt)} by {p.madeBy} · {p.lastSignIn ? `last signed in ${ago(p.lastSignIn)}` : "never signed in"}
        </span>
      </div>
      {p.leavesAt && (
        <p className="border-l-4 border-line pl-4" role="status">
          Deleted {when(p.leavesAt)}, as the owner requested.
        </p>
      )}
      <EditForm
        person={p}
        act={edit}
        onSave={(to) =>
          edit.run(async () => {
            const edited = await editPerson(name, to);
            if (edited.name !== name) onRenamed(edited.name);
            return "Saved.";
          })
        }
      />
      <section>
        <h3 className="mb-2 font-bold">Roles</h3>
        <Grants
          name={name}
          grants={p.grants}
          act={role}
          onRevoke={(taken, done) => role.run(() => revokeRole(name, taken).then(() => (done(), `The role ${taken} was revoked.`)))}
        />
        <GrantForm roles={roles} onGrant={(g) => role.run(() => grantRole(name, g).then(() => `The role ${g.role} was granted.`))} />
        <Said act={role} />
      </section>
      <section>
        <h3 className="mb-2 font-bold">Password</h3>
        {secret && <Secret {...secret} />}
        <div className="mt-2 flex flex-wrap gap-2">
          <button
            type="button"
            className={plain}
            disabled={password.busy || p.disabled}
            onClick={() =>
              password.run(async () => {
                const l = await makeLink(name);
                setSecret({
                  label: `Give this link only to ${name}. It sets the password once and is valid until ${when(l.until)}.`,
                  text: location.origin + l.path,
                });
                return "";
              })
            }
          >
            Create a link to set it
          </button>
          {p.email && (
            <button
              type="button"
              className={plain}
              disabled={password.busy || p.disabled}
              onClick={() => password.run(() => mailLink(name).then(() => `A link was sent to ${p.email}.`))}
            >
              E-mail a link
            </button>
          )}
          <button
            type="button"
            className={plain}
            disabled={password.busy}
            onClick={() =>
              password.run(async () => {
                const { password: made } = await generate({ words: 5 });
                await setPassword(name, made);
                setSecret({ label: "The new password. It is shown only once:", text: made });
                return "Password set. All sessions have ended.";
              })
            }
          >
            Generate a new one
          </button>
        </div>
        <Said act={password} />
      </section>
      <PersonFactors name={name} />
      <PersonKeys name={name} roles={p.roles} />
      <section>
        <h3 className="mb-2 font-bold">Sessions</h3>
        <p className="mb-2 text-soft">
          {sessions.data
            ? sessions.data.total === 0
              ? "Not signed in anywhere. "
              : `Signed in on ${sessions.data.total} ${sessions.data.total === 1 ? "device" : "devices"}. `
            : " "}
          <Link className="underline" to={`/activity?account=${encodeURIComponent(name)}`}>
            Activity
          </Link>
        </p>
        <button
          type="button"
          className={takes}
          disabled={ending.busy || !sessions.data?.total}
          onClick={() => ending.run(() => endSessionsOf(name).then((e) => `${e.ended} ended.`))}
        >
          End all sessions
        </button>
        <Said act={ending} />
      </section>
      <section className="border-t border-line pt-5">
        <div className="flex flex-wrap gap-2">
          <button
            type="button"
            className={p.disabled ? plain : takes}
            disabled={state.busy}
            onClick={() => (p.disabled ? state.run(() => setDisabled(name, false).then(() => "Enabled.")) : setAsking("disable"))}
          >
            {p.disabled ? "Enable" : "Disable"}
          </button>
          <button type="button" className={takes} disabled={state.busy} onClick={() => setAsking("remove")}>
            Remove
          </button>
        </div>
        {!asking && <Said act={state} />}
      </section>
      <Ask
        question={asking && (asking === "remove" ? `Remove ${name}?` : `Disable ${name}?`)}
        text={
          asking === "remove"
            ? "The account, its roles and its sessions are deleted. You can't undo this. Its activity stays."
            : "All sessions end immediately. You can enable the account again."
        }
        yes={asking === "remove" ? "Remove account" : "Disable account"}
        busy={state.busy}
        error={state.error}
        onYes={() =>
          state.run(async () => {
            if (asking === "remove") {
              await removePerson(name);
              onGone();
              return;
            }
            await setDisabled(name, true);
            setAsking(undefined);
            return "Disabled. All sessions have ended.";
          })
        }
        onNo={close}
      />
    </div>
  );
}
