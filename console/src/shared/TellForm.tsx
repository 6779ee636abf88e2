import { key } from "../parts/keys";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { getDoors } from "../doors/queries";
import { me } from "../frame/queries";
import { ago } from "../parts/format";
import { Finished, FormEnd } from "../parts/form";
import { field, plain, small } from "../parts/styles";
import { getPerson } from "../people/queries";
import type { SharedPassword } from "../schema";
import { listTold, previewTelling, tell } from "./queries";

// Mails people the address and the password.
export function TellForm({ of: s, password: known = "", onDone }: { of: SharedPassword; password?: string; onDone: () => void }) {
  const queries = useQueryClient();
  const doors = useQuery({ queryKey: key("doors"), queryFn: getDoors });
  const told = useQuery({ queryKey: key("told", s.name), queryFn: () => listTold(s.name) });
  const [t, setT] = useState({ to: "", role: "", text: "", language: "en", password: known });
  const set = (change: Partial<typeof t>) => {
    preview.reset();
    setT({ ...t, ...change });
  };
  const preview = useMutation({ mutationFn: () => previewTelling(s.name, { ...t, password: t.password || "-" }) });
  const send = useMutation({
    mutationFn: () => tell(s.name, t),
    onSuccess: () => {
      for (const name of ["told", "messages"] as const) void queries.invalidateQueries({ queryKey: key(name) });
    },
  });
  // To whoever sits here, before it goes to others.
  const who = useQuery({ queryKey: key("me"), queryFn: me });
  const myself = useQuery({ queryKey: key("person", who.data?.name), queryFn: () => getPerson(who.data!.name), enabled: !!who.data?.name });
  const test = useMutation({ mutationFn: () => tell(s.name, { ...t, to: myself.data!.email!, role: "" }) });
  const before = [...new Set(told.data?.tellings.map((one) => one.address))];
  if (send.isSuccess) {
    const n = send.data.recipients.length;
    return (
      <Finished
        said={
          `${n === 1 ? "A message is" : `${n} messages are`} being sent. ` +
          `The Messages page shows ${n === 1 ? "its" : "their"} delivery.`
        }
        onDone={onDone}
      />
    );
  }
  const wrong = preview.data?.recipients.filter((r) => r.wrong) ?? [];
  return (
    <form
      className="flex flex-col gap-4"
      onSubmit={(e) => {
        e.preventDefault();
        send.mutate();
      }}
    >
      <label className="flex flex-col gap-1 text-sm text-soft">
        Recipients: e-mail addresses, or a table from a spreadsheet with an address column
        <textarea
          className={`${field} min-h-24 text-base`}
          value={t.to}
          onChange={(e) => set({ to: e.target.value })}
          spellCheck={false}
          placeholder="editor@gazette.example, Ada Carrow <ada@carrow.example>"
          data-autofocus
        />
      </label>
      <div className="flex flex-wrap items-center gap-x-5 gap-y-2 text-sm text-soft">
        <label className="flex items-center gap-2">
          And people with the role
          <select className={field} value={t.role} onChange={(e) => set({ role: e.target.value })}>
            <option value="">none</option>
            {doors.data?.roles.map((r) => (
              <option key={r}>{r}</option>
            ))}
          </select>
        </label>
        {before.length > 0 && (
          <button type="button" className={small} onClick={() => set({ to: before.join("\n") })}>
            Everyone who received it before ({before.length})
          </button>
        )}
      </div>
      <label className="flex flex-col gap-1 text-sm text-soft">
        The password (only its hash is stored here)
        <input
          className={`${field} font-mono text-base`}
          value={t.password}
          onChange={(e) => set({ password: e.target.value })}
          required
          spellCheck={false}
          autoCapitalize="none"
          autoComplete="off"
        />
      </label>
      <label className="flex flex-col gap-1 text-sm text-soft">
        Your message (optional); {"{title}, {site}, {name} and {place}"} are filled in
        <textarea
          className={`${field} min-h-28 text-base`}
          value={t.text}
          onChange={(e) => set({ text: e.target.value })}
          placeholder="The address and password are added below."
        />
      </label>
      <label className="flex items-center gap-2 text-sm text-soft">
        Language of the rest:
        <select className={field} value={t.language} onChange={(e) => set({ language: e.target.value })}>
          <option value="en">English</option>
          <option value="de">German</option>
        </select>
      </label>
      <div className="flex flex-wrap items-center gap-2">
        <button type="button" className={plain} disabled={preview.isPending || (!t.to.trim() && !t.role)} onClick={() => preview.mutate()}>
          Preview
        </button>
        {myself.data?.email && (
          <button type="button" className={plain} disabled={test.isPending || !t.password} onClick={() => test.mutate()}>
            Send a test to me
          </button>
        )}
        <span role="status" className={test.error ? "text-sm text-bad" : "text-sm text-good"}>
          {test.error ? test.error.message : test.isSuccess ? `Sent to ${myself.data?.email}.` : ""}
        </span>
      </div>
      {preview.error && (
        <p role="alert" className="text-bad">
          {preview.error.message}
        </p>
      )}
      {preview.data && (
        <section aria-label="Preview" className="rounded border border-line bg-paper p-3">
          <p className="text-sm text-soft">
            To {preview.data.recipients.length - wrong.length}{" "}
            {preview.data.recipients.length - wrong.length === 1 ? "address" : "addresses"}
          </p>
          {wrong.map((r) => (
            <p key={r.line + r.address} className="text-sm text-bad">
              Line {r.line}: {r.wrong}
            </p>
          ))}
          {preview.data.letter && (
            <>
              <p className="mt-2 font-bold">{preview.data.letter.subject}</p>
              <pre className="mt-2 text-sm whitespace-pre-wrap wrap-anywhere">{preview.data.letter.text}</pre>
            </>
          )}
        </section>
      )}
      <FormEnd yes="Send" busy={send.isPending || (!t.to.trim() && !t.role)} error={send.error} onNo={onDone} />
      {told.data && told.data.total > 0 && (
        <section className="border-t border-line pt-4">
          <h3 className="mb-1 font-bold">Recipients so far ({told.data.total})</h3>
          <ul className="text-sm">
            {told.data.tellings.slice(0, 20).map((one, i) => (
              <li key={i} className="flex justify-between gap-4 border-b border-line py-1">
                <span className="wrap-anywhere">{one.address}</span>
                <span className="whitespace-nowrap text-soft">
                  {ago(one.at)}, by {one.actor}
                </span>
              </li>
            ))}
          </ul>
        </section>
      )}
    </form>
  );
}
