import { key } from "../parts/keys";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { addEntry } from "./queries";
import { Added, FormEnd } from "../parts/form";
import { field } from "../parts/styles";
import { Handover } from "../passwords/Handover";
import { NewSecret } from "../passwords/NewSecret";
import { estimate } from "../passwords/queries";

export function NewEntryForm({ ring, onDone }: { ring: string; onDone: () => void }) {
  const queries = useQueryClient();
  const [password, setPassword] = useState("");
  const [e, setE] = useState({ name: "", note: "", until: "" });
  const add = useMutation({
    mutationFn: async () => {
      await addEntry(ring, { name: e.name, password, note: e.note, until: e.until ? new Date(e.until).toISOString() : undefined });
      void queries.invalidateQueries({ queryKey: key("keyrings") });
      return estimate(password, e.name);
    },
  });
  if (add.isSuccess) {
    return (
      <Added name={e.name} onDone={onDone}>
        <Handover address={`${location.origin}/`} name={e.name} password={password} word={add.data.word} />
      </Added>
    );
  }
  return (
    <form
      className="flex flex-col gap-4"
      onSubmit={(event) => {
        event.preventDefault();
        add.mutate();
      }}
    >
      <label className="flex flex-col gap-1 text-sm text-soft">
        Name
        <input
          className={`${field} text-base`}
          value={e.name}
          onChange={(x) => setE({ ...e, name: x.target.value })}
          required
          autoComplete="off"
          spellCheck={false}
          data-autofocus
        />
      </label>
      <label className="flex flex-col gap-1 text-sm text-soft">
        Purpose
        <input className={`${field} text-base`} value={e.note} onChange={(x) => setE({ ...e, note: x.target.value })} />
      </label>
      <label className="flex flex-col gap-1 text-sm text-soft">
        Ends on (optional)
        <input
          type="datetime-local"
          className={`${field} w-fit text-base`}
          value={e.until}
          onChange={(x) => setE({ ...e, until: x.target.value })}
        />
      </label>
      <NewSecret name={e.name} value={password} onChange={setPassword} />
      <FormEnd yes="Add" busy={add.isPending} error={add.error} onNo={onDone} />
    </form>
  );
}
