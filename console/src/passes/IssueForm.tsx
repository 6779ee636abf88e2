import { key } from "../parts/keys";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { FormEnd } from "../parts/form";
import { field } from "../parts/styles";
import type { PassKind } from "../schema";
import { Issued } from "./Issued";
import { issuePass } from "./queries";

// A pass for somebody.
export function IssueForm({ kinds, onDone }: { kinds: PassKind[]; onDone: () => void }) {
  const queries = useQueryClient();
  const [n, setN] = useState({
    kind: kinds[0].name,
    to: "",
    name: "",
    reference: "",
    note: "",
    until: "",
    downloads: "",
    paths: "",
    language: "en",
    mail: true,
  });
  const set = (change: Partial<typeof n>) => setN({ ...n, ...change });
  const kind = kinds.find((k) => k.name === n.kind) ?? kinds[0];
  const issue = useMutation({
    mutationFn: () =>
      issuePass({
        kind: n.kind,
        to: n.to.trim(),
        name: n.name.trim() || undefined,
        reference: n.reference.trim() || undefined,
        note: n.note.trim() || undefined,
        until: n.until ? new Date(n.until).toISOString() : undefined,
        downloads: n.downloads ? Number(n.downloads) : undefined,
        paths: n.paths.trim() ? n.paths.trim().split(/\s+/) : undefined,
        language: n.language,
        noMail: !n.mail,
      }),
    onSuccess: () => void queries.invalidateQueries({ queryKey: key("passes") }),
  });
  if (issue.isSuccess) return <Issued pass={issue.data} what="Pass issued." onDone={onDone} />;
  const label = "flex flex-col gap-1 text-sm text-soft";
  return (
    <form
      className="flex flex-col gap-4"
      onSubmit={(e) => {
        e.preventDefault();
        issue.mutate();
      }}
    >
      {kinds.length > 1 && (
        <label className={label}>
          Kind
          <select className={`${field} w-fit text-base`} value={n.kind} onChange={(e) => set({ kind: e.target.value })}>
            {kinds.map((k) => (
              <option key={k.name} value={k.name}>
                {k.title}
              </option>
            ))}
          </select>
        </label>
      )}
      <label className={label}>
        Recipient's e-mail address
        <input
          type="email"
          className={`${field} text-base`}
          value={n.to}
          onChange={(e) => set({ to: e.target.value })}
          required
          autoComplete="off"
          data-autofocus
        />
      </label>
      <label className={label}>
        Recipient's name
        <input className={`${field} text-base`} value={n.name} onChange={(e) => set({ name: e.target.value })} autoComplete="off" />
      </label>
      <label className={label}>
        Your reference, such as an order number
        <input
          className={`${field} w-60 max-w-full text-base`}
          value={n.reference}
          onChange={(e) => set({ reference: e.target.value })}
          autoComplete="off"
        />
      </label>
      <div className="flex flex-wrap gap-4">
        <label className={label}>
          Ends on (empty:{" "}
          {kind.lasts === "forever" ? "no end" : `for ${kind.lasts}${kind.countsFrom === "first-use" ? " from the first use" : ""}`})
          <input
            type="datetime-local"
            className={`${field} w-fit text-base`}
            value={n.until}
            onChange={(e) => set({ until: e.target.value })}
          />
        </label>
        <label className={label}>
          Downloads (empty: {kind.downloads || "any number"})
          <input
            type="number"
            min={1}
            className={`${field} w-28 text-base`}
            value={n.downloads}
            onChange={(e) => set({ downloads: e.target.value })}
          />
        </label>
      </div>
      <label className={label}>
        Only these places (empty: all of its kind)
        <input
          className={`${field} text-base`}
          value={n.paths}
          onChange={(e) => set({ paths: e.target.value })}
          placeholder={kind.place}
          spellCheck={false}
        />
      </label>
      <label className={label}>
        Note (for stewards)
        <input className={`${field} text-base`} value={n.note} onChange={(e) => set({ note: e.target.value })} />
      </label>
      <div className="flex flex-wrap items-center gap-x-5 gap-y-2 text-soft">
        <label className="flex items-center gap-2">
          <input type="checkbox" className="h-4 w-4 accent-brass" checked={n.mail} onChange={(e) => set({ mail: e.target.checked })} />{" "}
          E-mail it to the recipient
        </label>
        <label className="flex items-center gap-2">
          in
          <select className={field} value={n.language} onChange={(e) => set({ language: e.target.value })}>
            <option value="en">English</option>
            <option value="de">German</option>
          </select>
        </label>
      </div>
      <FormEnd yes="Issue the pass" busy={issue.isPending} error={issue.error} onNo={onDone} />
    </form>
  );
}
