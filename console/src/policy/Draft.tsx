import { key } from "../parts/keys";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useMemo, useRef, useState } from "react";
import { getDoors } from "../doors/queries";
import { when } from "../parts/format";
import { plain, primary } from "../parts/styles";
import { Editor } from "./Editor";
import { completer } from "./complete";
import { keepDraft, keptDraft } from "./kept";
import { wasEdited } from "./edited";
import { ChangeList, FindingList, GuaranteeList, OpensAndCloses } from "./found";
import { applyPolicy, checkPolicy } from "./queries";
import { Tried } from "./Tried";
import type { Checked, Finding, Version } from "../schema";

export function DraftPanel({ running, owner }: { running: Version; owner: string }) {
  const queries = useQueryClient();
  const [kept] = useState(() => keptDraft(owner));
  // A draft that began from another version is told so, below.
  const [base, setBase] = useState(kept ? { ...running, id: kept.base } : running);
  const [text, setText] = useState(kept?.text ?? running.text ?? "");
  const [comment, setComment] = useState(kept?.comment ?? "");
  const [checked, setChecked] = useState<Checked & { text: string }>();
  const [done, setDone] = useState("");
  const newest = useRef("");
  const doors = useQuery({ queryKey: key("doors"), queryFn: getDoors });
  const schema = useQuery({
    queryKey: key("schema"),
    queryFn: () => fetch(new URL("../policy.schema.json", document.baseURI)).then((r) => r.json()),
    staleTime: Infinity,
  });
  const complete = useMemo(
    () => (schema.data ? completer(schema.data, doors.data?.roles ?? []) : () => null),
    [schema.data, doors.data?.roles],
  );
  const touched = text !== base.text;

  // What is not applied stays in this browser, until it is applied or dropped.
  useEffect(
    () => keepDraft(owner, touched ? { base: base.id, text, comment, at: new Date().toISOString() } : undefined),
    [owner, touched, base.id, text, comment],
  );

  // When another version comes into force, an untouched draft follows it.
  useEffect(() => {
    if (running.id !== base.id && !touched) {
      setBase(running);
      setText(running.text ?? "");
    }
  }, [running, base.id, touched]);

  const check = async (draft: string): Promise<Finding[]> => {
    newest.current = draft;
    try {
      const result = await checkPolicy(draft);
      if (newest.current === draft) setChecked({ ...result, text: draft });
      return result.findings;
    } catch {
      return [];
    }
  };
  const apply = useMutation({
    mutationFn: (overEdit: boolean) => applyPolicy({ text, comment, base: base.id, overEdit }),
    onSuccess: ({ version }) => {
      setBase({ ...version, text });
      setComment("");
      setDone(`Version ${version.id} is active.`);
      void queries.invalidateQueries();
      void check(text);
    },
  });
  const errors = checked?.findings.filter((f) => f.severity === "error").length ?? 0;

  return (
    <div className="grid grid-cols-[minmax(0,3fr)_minmax(16rem,1fr)] gap-8 max-lg:grid-cols-1">
      <div className="h-[calc(100vh-14rem)] min-h-96">
        <Editor
          text={text}
          label="Draft of the policy"
          check={check}
          complete={complete}
          onChange={(next) => {
            setText(next);
            setDone("");
            apply.reset();
          }}
        />
      </div>
      <div className="flex flex-col gap-3 lg:max-h-[max(24rem,calc(100vh-14rem))]">
        {/* It takes the focus, so that it scrolls by keyboard too; what stands in it is never beneath the form. */}
        <div role="region" aria-label="Check" tabIndex={0} className="flex min-h-0 flex-col gap-5 lg:overflow-y-auto lg:pr-2">
          {running.id !== base.id && touched && (
            <div role="alert" className="border-l-4 border-ask pl-3">
              <p>Version {running.id} became active after you started editing.</p>
              <button
                type="button"
                className="cursor-pointer underline"
                onClick={() => {
                  setBase(running);
                  setText(running.text ?? "");
                }}
              >
                Discard my draft and start from it
              </button>
            </div>
          )}
          {kept && touched && (
            <p className="text-sm text-soft">This draft of {when(kept.at)} was saved in this browser. “Undo all” discards it.</p>
          )}
          <section aria-live="polite">
            <h2 className="mb-1 font-bold">Check</h2>
            {!checked ? (
              <p className="text-soft">Checking …</p>
            ) : errors > 0 ? (
              <>
                <p className="text-bad">
                  {errors} {errors === 1 ? "error" : "errors"}
                </p>
                <FindingList findings={checked.findings} />
              </>
            ) : (
              <>
                <p className="text-good">No errors</p>
                <FindingList findings={checked.findings} />
              </>
            )}
          </section>
          <section>
            <h2 className="mb-1 font-bold">Guarantees</h2>
            <GuaranteeList guarantees={checked?.guarantees} />
          </section>
          <section>
            <h2 className="mb-1 font-bold">Changes to the doors</h2>
            {!touched ? (
              <p className="text-soft">No changes: the draft is the same as the active policy.</p>
            ) : checked?.ok ? (
              <>
                <ChangeList changes={checked.changes} />
                <OpensAndCloses compared={checked.compared} />
                <Tried text={checked.text} />
              </>
            ) : (
              <p className="text-soft">Shown once the draft has no errors.</p>
            )}
          </section>
        </div>
        <form
          className="mt-auto flex flex-col gap-2 border-t border-line bg-paper pt-3 max-lg:sticky max-lg:bottom-0"
          onSubmit={(e) => {
            e.preventDefault();
            apply.mutate(false);
          }}
        >
          <label className="flex flex-col gap-1 text-sm text-soft">
            Reason, for the history
            <input
              className="rounded border border-line bg-sheet px-3 py-1.5 text-base text-ink"
              value={comment}
              onChange={(e) => setComment(e.target.value)}
              maxLength={500}
            />
          </label>
          <div className="flex flex-wrap gap-2">
            <button type="submit" className={primary} disabled={!touched || !checked?.ok || apply.isPending}>
              Apply
            </button>
            <button type="button" className={plain} disabled={!touched} onClick={() => setText(base.text ?? "")}>
              Undo all
            </button>
          </div>
          <p role="status" className="min-h-6 text-sm">
            {apply.error ? <span className="text-bad">{apply.error.message}</span> : <span className="text-good">{done}</span>}
          </p>
          {wasEdited(apply.error) && (
            <button type="button" className={plain} onClick={() => apply.mutate(true)}>
              Overwrite the file
            </button>
          )}
        </form>
      </div>
    </div>
  );
}
