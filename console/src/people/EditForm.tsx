import { useEffect, useState } from "react";
import { field, plain } from "../parts/styles";
import type { Person } from "../schema";
import { Said } from "../parts/act";

export function EditForm({
  person,
  act,
  onSave,
}: {
  person: Person;
  act: { error: Error | null; done: string };
  onSave: (to: { name?: string; email?: string; notes?: string }) => void;
}) {
  const start = { name: person.name, email: person.email ?? "", notes: person.notes ?? "" };
  const [to, setTo] = useState(start);
  const kept = JSON.stringify(start);
  useEffect(() => setTo(JSON.parse(kept)), [kept]);
  const changed = JSON.stringify(to) !== kept;
  return (
    <form
      className="flex flex-col gap-3"
      onSubmit={(e) => {
        e.preventDefault();
        onSave(to);
      }}
    >
      {(["name", "email"] as const).map((key) => (
        <label key={key} className="flex flex-col gap-1 text-sm text-soft">
          {key === "name" ? "Name" : "E-mail address"}
          <input
            className={`${field} text-base`}
            value={to[key]}
            onChange={(e) => setTo({ ...to, [key]: e.target.value })}
            autoComplete="off"
            spellCheck={false}
          />
        </label>
      ))}
      <label className="flex flex-col gap-1 text-sm text-soft">
        Notes, for stewards only
        <textarea
          className={`${field} text-base`}
          rows={2}
          value={to.notes}
          onChange={(e) => setTo({ ...to, notes: e.target.value })}
          maxLength={2000}
        />
      </label>
      <div>
        <button type="submit" className={plain} disabled={!changed}>
          Save
        </button>
        <Said act={act} />
      </div>
    </form>
  );
}
