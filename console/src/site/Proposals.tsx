import { key } from "../parts/keys";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Said, useAct } from "../parts/act";
import { Ask } from "../parts/dialog";
import { useSettled } from "../parts/hooks";
import { plain, primary } from "../parts/styles";
import { OpensAndCloses } from "../policy/found";
import { applyPolicy } from "../policy/queries";
import type { Edit, Proposal } from "../schema";
import { Lines } from "./Lines";
import { tryEdits } from "./queries";

const groups: { admit: Proposal["admit"]; title: string; text: string }[] = [
  {
    admit: "nobody",
    title: "Block for everyone",
    text: "Probably shouldn't be on the web at all. Remove these files when you can.",
  },
  {
    admit: "signed-in",
    title: "Require sign-in",
    text: "These look private. You can choose who may see them afterwards.",
  },
  { admit: "public", title: "Open to everyone", text: "These look public. Select the ones that are." },
];

// Doors that the site may need, going by the names of what is there; those that are chosen are made in one step.
export function Proposals({ proposals, onDone }: { proposals: Proposal[]; onDone: () => void }) {
  const [left, setLeft] = useState<string[]>(() => proposals.filter((p) => p.admit === "public").map((p) => p.path)); // not to be made
  const [asking, setAsking] = useState(false);
  const edits: Edit[] = proposals
    .filter((p) => !left.includes(p.path))
    .map((p) => ({ kind: "door", path: p.path, terms: { who: p.admit }, because: p.why }));
  const settled = useSettled(edits, 250);
  const preview = useQuery({
    queryKey: key("edit", settled),
    queryFn: () => tryEdits(settled),
    enabled: settled.length > 0,
    placeholderData: keepPreviousData,
    retry: false,
    gcTime: 0,
  });
  const act = useAct("site", "doors", "policy", "edit");
  const shown = edits.length > 0 ? preview.data : undefined;
  const ready = JSON.stringify(edits) === JSON.stringify(settled) && !preview.isFetching && !preview.error && !!shown?.changed;
  const opened = shown?.compared.differences?.filter((d) => d.effect === "opened") ?? [];
  const apply = () =>
    act.run(async () => {
      await applyPolicy({
        text: shown!.text,
        base: shown!.base,
        comment: `${edits.length} suggested ${edits.length === 1 ? "door" : "doors"}`,
      });
      onDone();
    });
  return (
    <section aria-label="Suggested doors" className="flex min-w-0 flex-col gap-5">
      <div>
        <h2 className="text-lg font-bold">Suggested doors</h2>
        <p className="mt-1 text-soft">Suggested by file names. Nothing changes until you apply it.</p>
      </div>
      {groups.map((g) => {
        const some = proposals.filter((p) => p.admit === g.admit);
        return (
          some.length > 0 && (
            <fieldset key={g.admit}>
              <legend className="font-bold">{g.title}</legend>
              <p className="mb-1 text-sm text-soft">{g.text}</p>
              <ul className="max-h-72 overflow-y-auto">
                {some.map((p) => (
                  <li key={p.path}>
                    <label className="flex items-center gap-2 py-0.5">
                      <input
                        type="checkbox"
                        className="h-4 w-4 shrink-0 accent-brass"
                        checked={!left.includes(p.path)}
                        onChange={(e) => setLeft(e.target.checked ? left.filter((l) => l !== p.path) : [...left, p.path])}
                      />
                      <code className="wrap-anywhere">{p.path}</code> <span className="text-sm text-soft">{p.why}</span>
                    </label>
                  </li>
                ))}
              </ul>
            </fieldset>
          )
        );
      })}
      {preview.error && edits.length > 0 && (
        <p role="alert" className="text-bad">
          {preview.error.message}
        </p>
      )}
      {shown && !preview.error && (
        <>
          <div aria-live="polite">
            <h3 className="font-bold">What changes</h3>
            <OpensAndCloses compared={shown.compared} />
          </div>
          {shown.lines && <Lines text={shown.lines} />}
        </>
      )}
      <div className="flex flex-wrap gap-2">
        <button
          type="button"
          className={primary}
          disabled={!ready || act.busy}
          onClick={() => (opened.length > 0 ? setAsking(true) : apply())}
        >
          {edits.length === 1 ? "Create this door" : `Create these ${edits.length} doors`}
        </button>
        <button type="button" className={plain} onClick={onDone}>
          Not now
        </button>
      </div>
      {!asking && <Said act={act} />}
      <Ask
        question={asking ? "Open this to everyone?" : undefined}
        text={edits
          .filter((e) => e.terms!.who === "public")
          .map((e) => e.path)
          .join(", ")}
        yes="Open to everyone"
        busy={act.busy}
        error={act.error}
        onYes={apply}
        onNo={() => {
          act.reset();
          setAsking(false);
        }}
      />
    </section>
  );
}
