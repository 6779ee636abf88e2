import { Dialog, DialogPanel, DialogTitle } from "@headlessui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useMemo, useRef, useState } from "react";
import { api, Failure, type Change, type Checked, type Finding, type Guarantee, type Version } from "../api";
import { completer } from "../complete";
import { Difference, Editor } from "../parts/Editor";
import { plain, primary, when } from "../parts/controls";
import { Broken, Heading, Loading } from "../parts/states";

// Somebody has edited the file, which is not in force and would be lost.
const wasEdited = (error: Error | null) => error instanceof Failure && error.code === "file-edited";

// The policy in force, a draft of the next one, and those before.
export function PolicyPage() {
  const [tab, setTab] = useState<"draft" | "history">("draft");
  const running = useQuery({ queryKey: ["policy"], queryFn: api.policy, refetchInterval: 15_000 });
  if (running.isPending) return <Loading what="the policy" />;
  if (running.error) return <Broken what="policy" error={running.error} retry={() => running.refetch()} />;
  return (
    <>
      <Heading title="Policy">
        Version {running.data.id} is in force, since {when(running.data.at)}, by {running.data.by}
        {running.data.comment && `: ${running.data.comment}`}.
      </Heading>
      <div className="mb-4 flex w-fit rounded border border-line bg-sheet" role="group" aria-label="Show">
        {(["draft", "history"] as const).map((name) => (
          <button
            key={name}
            type="button"
            aria-pressed={tab === name}
            onClick={() => setTab(name)}
            className={`cursor-pointer px-4 py-1.5 first:rounded-l last:rounded-r hover:bg-hover ${tab === name ? "bg-hover font-bold" : ""}`}
          >
            {name === "draft" ? "Draft" : "History"}
          </button>
        ))}
      </div>
      <div hidden={tab !== "draft"}>
        <DraftPanel running={running.data} />
      </div>
      {tab === "history" && <HistoryPanel running={running.data} />}
    </>
  );
}

function DraftPanel({ running }: { running: Version }) {
  const queries = useQueryClient();
  const [base, setBase] = useState(running);
  const [text, setText] = useState(running.text ?? "");
  const [comment, setComment] = useState("");
  const [checked, setChecked] = useState<Checked>();
  const [done, setDone] = useState("");
  const newest = useRef("");
  const doors = useQuery({ queryKey: ["doors"], queryFn: api.doors });
  const schema = useQuery({
    queryKey: ["schema"],
    queryFn: () => fetch(new URL("../policy.schema.json", document.baseURI)).then((r) => r.json()),
    staleTime: Infinity,
  });
  const complete = useMemo(() => (schema.data ? completer(schema.data, doors.data?.roles ?? []) : () => null), [schema.data, doors.data?.roles]);
  const touched = text !== base.text;

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
      const result = await api.checkPolicy(draft);
      if (newest.current === draft) setChecked(result);
      return result.findings;
    } catch {
      return [];
    }
  };
  const apply = useMutation({
    mutationFn: (overEdit: boolean) => api.applyPolicy({ text, comment, base: base.id, overEdit }),
    onSuccess: ({ version }) => {
      setBase({ ...version, text });
      setComment("");
      setDone(`Version ${version.id} is in force.`);
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
      <div className="flex flex-col gap-5">
        {running.id !== base.id && touched && (
          <div role="alert" className="border-l-4 border-ask pl-3">
            <p>Version {running.id} has come into force since you began.</p>
            <button
              type="button"
              className="cursor-pointer underline"
              onClick={() => {
                setBase(running);
                setText(running.text ?? "");
              }}
            >
              Drop my draft and begin from it
            </button>
          </div>
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
          <h2 className="mb-1 font-bold">What changes in the doors</h2>
          {!touched ? (
            <p className="text-soft">Nothing: the draft is what is in force.</p>
          ) : checked?.ok ? (
            <>
              <ChangeList changes={checked.changes} />
              <OpensAndCloses compared={checked.compared} />
            </>
          ) : (
            <p className="text-soft">Shown when the draft has no errors.</p>
          )}
        </section>
        <form
          className="flex flex-col gap-2"
          onSubmit={(e) => {
            e.preventDefault();
            apply.mutate(false);
          }}
        >
          <label className="flex flex-col gap-1 text-sm text-soft">
            Why, for the history
            <input className="rounded border border-line bg-sheet px-3 py-1.5 text-base text-ink" value={comment} onChange={(e) => setComment(e.target.value)} maxLength={500} />
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
              Write over the edit
            </button>
          )}
        </form>
      </div>
    </div>
  );
}

function FindingList({ findings }: { findings: Finding[] }) {
  const worst = findings.toSorted((a, b) => Number(b.severity === "error") - Number(a.severity === "error"));
  return (
    <ul className="mt-1 flex flex-col gap-2 text-sm">
      {worst.slice(0, 8).map((f, i) => (
        <li key={i} className="wrap-anywhere">
          <span className="text-soft">
            Line {f.line}, {f.severity}:
          </span>{" "}
          {f.message}
        </li>
      ))}
      {findings.length > 8 && <li className="text-soft">and {findings.length - 8} more</li>}
    </ul>
  );
}

const states = { holds: { sign: "✓", colour: "text-good" }, broken: { sign: "✗", colour: "text-bad" }, unproven: { sign: "?", colour: "text-ask" } };

// What the draft promises, and whether it holds for all places and all visitors.
function GuaranteeList({ guarantees }: { guarantees?: Guarantee[] }) {
  if (!guarantees) return <p className="text-soft">Proving …</p>;
  if (guarantees.length === 0) return <p className="text-soft">The draft promises nothing under the key guarantees.</p>;
  const order = ["broken", "unproven", "holds"];
  const sorted = guarantees.toSorted((a, b) => order.indexOf(a.state) - order.indexOf(b.state));
  return (
    <ul className="flex flex-col gap-1.5 text-sm">
      {sorted.slice(0, 20).map((g) => (
        <li key={`${g.line} ${g.path}`} className="grid grid-cols-[1.25rem_1fr]" title={g.because}>
          <span aria-hidden="true" className={`font-bold ${states[g.state].colour}`}>
            {states[g.state].sign}
          </span>
          <span className="wrap-anywhere">
            <code>{g.path}</code> <span className="text-soft">{g.says}</span> <span className={g.state === "holds" ? "sr-only" : states[g.state].colour}>{g.state}</span>
            {g.state !== "holds" && <span className="block">{g.message}</span>}
            {g.state !== "holds" && g.because && <span className="block text-soft">Promised because: {g.because}</span>}
            {g.witness && (
              <span className="block">
                <code>
                  {g.witness.method} {g.witness.host}
                  {g.witness.path}
                </code>{" "}
                as <code>{g.witness.visitor}</code>
              </span>
            )}
          </span>
        </li>
      ))}
      {guarantees.length > 20 && <li className="text-soft">and {guarantees.length - 20} more</li>}
    </ul>
  );
}

const signs = { added: "+", removed: "−", changed: "~" };

function ChangeList({ changes }: { changes: Change[] }) {
  if (changes.length === 0) return <p className="text-soft">The doors stay the same.</p>;
  return (
    <ul className="flex flex-col gap-2 text-sm">
      {changes.slice(0, 40).map((c, i) => (
        <li key={i} className="grid grid-cols-[1rem_1fr]">
          <span aria-hidden="true" className="font-bold">
            {signs[c.kind]}
          </span>
          <span className="wrap-anywhere">
            <span className="sr-only">{c.kind} </span>
            <code>{c.door}</code>
            <span className="block">
              {c.before && <span className="text-soft line-through decoration-1">{c.before}</span>} {c.after}
            </span>
          </span>
        </li>
      ))}
      {changes.length > 40 && <li className="text-soft">and {changes.length - 40} more</li>}
    </ul>
  );
}

const effects = { opened: "Opens", closed: "Closes", other: "Answers otherwise" };

// What a draft opens and closes, for all places and all visitors.
function OpensAndCloses({ compared }: { compared: Checked["compared"] }) {
  if (compared.unproven) return <p className="mt-3 text-sm">What this opens could not be proven: {compared.unproven}</p>;
  const all = compared.differences ?? [];
  if (all.length === 0) return <p className="mt-3 text-sm">It decides the same everywhere, for everybody.</p>;
  return (["opened", "closed", "other"] as const).map((effect) => {
    const some = all.filter((d) => d.effect === effect);
    return (
      some.length > 0 && (
        <div key={effect} className="mt-3 text-sm">
          <h3 className={`font-bold ${effect === "opened" ? "text-bad" : ""}`}>{effects[effect]}</h3>
          <ul className="flex flex-col gap-1">
            {some.slice(0, 8).map((d, i) => (
              <li key={i} className="wrap-anywhere">
                <code>
                  {d.witness.method} {d.witness.host}
                  {d.witness.path}
                </code>{" "}
                to <code>{d.witness.visitor}</code>
                <span className="block text-soft">
                  {d.before} → {d.after}
                </span>
              </li>
            ))}
            {some.length > 8 && <li className="text-soft">and {some.length - 8} more</li>}
          </ul>
        </div>
      )
    );
  });
}

function HistoryPanel({ running }: { running: Version }) {
  const queries = useQueryClient();
  const versions = useQuery({ queryKey: ["versions", running.id], queryFn: api.versions });
  const [chosen, setChosen] = useState<number>();
  const [asking, setAsking] = useState(false);
  const picked = versions.data?.find((v) => v.id === chosen) ?? versions.data?.[0];
  // The oldest may be the first no more: those before are forgotten in time.
  const earlier = picked && versions.data?.find((v) => v.id < picked.id);
  const text = useQuery({ queryKey: ["version", picked?.id], queryFn: () => api.version(picked!.id), enabled: !!picked });
  const before = useQuery({
    queryKey: ["version", earlier?.id],
    queryFn: () => api.version(earlier!.id),
    enabled: !!earlier,
  });
  const rollback = useMutation({
    mutationFn: (overEdit: boolean) => api.rollback(picked!.id, overEdit),
    onSuccess: ({ version }) => {
      setAsking(false);
      setChosen(version.id);
      void queries.invalidateQueries();
    },
  });
  if (versions.isPending) return <Loading what="the versions" />;
  if (versions.error) return <Broken what="versions" error={versions.error} retry={() => versions.refetch()} />;
  return (
    <div className="grid grid-cols-[18rem_minmax(0,1fr)] gap-8 max-lg:grid-cols-1">
      <ol className="flex max-h-[calc(100vh-14rem)] flex-col overflow-y-auto border-t border-line" aria-label="Versions, newest first">
        {versions.data.map((v) => (
          <li key={v.id}>
            <button
              type="button"
              aria-pressed={v.id === picked?.id}
              onClick={() => setChosen(v.id)}
              className={`w-full cursor-pointer border-b border-line px-3 py-2 text-left hover:bg-hover ${v.id === picked?.id ? "bg-hover" : ""}`}
            >
              <span className="flex justify-between gap-2">
                <span className="font-bold">Version {v.id}</span>
                {v.id === running.id && <span className="text-sm text-good">in force</span>}
              </span>
              <span className="block text-sm text-soft">
                {when(v.at)}, {v.by}
              </span>
              {v.comment && <span className="block text-sm wrap-anywhere">{v.comment}</span>}
            </button>
          </li>
        ))}
      </ol>
      {picked && (
        <div className="flex min-w-0 flex-col gap-3">
          <div className="flex flex-wrap items-center justify-between gap-3">
            <p className="text-soft">{earlier ? `What version ${picked.id} changed in the text of version ${earlier.id}` : "The first version that is kept"}</p>
            <button type="button" className={plain} disabled={picked.id === running.id} onClick={() => (rollback.reset(), setAsking(true))}>
              Bring back this version
            </button>
          </div>
          <div className="h-[calc(100vh-18rem)] min-h-80">
            {text.data && (!earlier || before.data) && <Difference before={(earlier ? before.data : text.data)?.text ?? ""} after={text.data.text ?? ""} />}
          </div>
        </div>
      )}
      <Dialog open={asking} onClose={() => setAsking(false)} className="relative z-20">
        <div className="fixed inset-0 bg-black/40" aria-hidden="true" />
        <div className="fixed inset-0 flex items-center justify-center p-4">
          <DialogPanel className="max-w-md rounded border border-line bg-sheet p-6">
            <DialogTitle className="text-lg font-bold">Bring back version {picked?.id}?</DialogTitle>
            <p className="mt-2">Its text becomes a new version and is in force at once. Nothing of the history is lost.</p>
            {rollback.error && <p className="mt-2 text-bad">{rollback.error.message}</p>}
            <div className="mt-5 flex gap-2">
              <button type="button" className={primary} disabled={rollback.isPending} onClick={() => rollback.mutate(wasEdited(rollback.error))}>
                {wasEdited(rollback.error) ? "Write over the edit" : "Bring it back"}
              </button>
              <button type="button" className={plain} onClick={() => setAsking(false)}>
                Leave it
              </button>
            </div>
          </DialogPanel>
        </div>
      </Dialog>
    </div>
  );
}
