import { key } from "../parts/keys";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Finished, FormEnd } from "../parts/form";
import { field } from "../parts/styles";
import type { PassKind } from "../schema";
import { rotatePasses } from "./queries";

// Other credentials for all passes of a kind, mailed to everybody.
export function RotateForm({ kinds, onDone }: { kinds: PassKind[]; onDone: () => void }) {
  const queries = useQueryClient();
  const [kind, setKind] = useState(kinds[0].name);
  const [grace, setGrace] = useState("259200");
  const [done, setDone] = useState(0);
  const rotate = useMutation({
    mutationFn: async () => {
      const before = new Date().toISOString();
      for (let all = 0; ;) {
        const { rotated } = await rotatePasses({ kind, grace: Number(grace), before });
        if (rotated === 0) return all;
        setDone((all += rotated));
      }
    },
    onSettled: () => void queries.invalidateQueries({ queryKey: key("passes") }),
  });
  const one = kinds.find((k) => k.name === kind)!;
  const some = ["waiting", "open", "used-up", "paused"].reduce((sum, state) => sum + (one.counts[state] ?? 0), 0);
  if (rotate.isSuccess) {
    return (
      <Finished
        said={
          `${rotate.data} ${rotate.data === 1 ? "pass has" : "passes have"} a new link and password. ` +
          "All recipients are informed by e-mail."
        }
        onDone={onDone}
      />
    );
  }
  return (
    <form
      className="flex flex-col gap-4"
      onSubmit={(e) => {
        e.preventDefault();
        rotate.mutate();
      }}
    >
      <p>
        Every valid pass gets a new link and password, and its recipient gets a message with them. Credentials that were shared with others
        stop working.
      </p>
      <label className="flex items-center gap-2 text-soft">
        Kind
        <select className={field} value={kind} onChange={(e) => setKind(e.target.value)} data-autofocus>
          {kinds.map((k) => (
            <option key={k.name} value={k.name}>
              {k.title}
            </option>
          ))}
        </select>
      </label>
      <label className="flex items-center gap-2 text-soft">
        The previous ones work
        <select className={field} value={grace} onChange={(e) => setGrace(e.target.value)}>
          <option value="0">no longer</option>
          <option value="86400">for another day</option>
          <option value="259200">for another three days</option>
          <option value="604800">for another week</option>
        </select>
      </label>
      <p className="min-h-6 text-soft" role="status">
        {rotate.isPending ? `${done} of ${some} …` : `${some} ${some === 1 ? "pass" : "passes"}, as many messages`}
      </p>
      <FormEnd yes="Replace all" busy={rotate.isPending || some === 0} error={rotate.error} onNo={onDone} />
    </form>
  );
}
