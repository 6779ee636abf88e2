import { OutcomeMark } from "../parts/OutcomeMark";
import type { Explanation } from "../schema";

// What a request comes to, with the reasons beside what follows from them.
export function Answer({ explanation: e, narrow }: { explanation: Explanation; narrow?: boolean }) {
  return (
    <div className={`grid gap-x-12 gap-y-6 ${narrow ? "" : "grid-cols-[minmax(0,3fr)_minmax(0,2fr)] max-lg:grid-cols-1"}`}>
      <div>
        <p className="mb-5 text-xl" data-testid="outcome">
          <OutcomeMark outcome={e.outcome} />
        </p>
        <ol className="flex flex-col gap-2.5" aria-label="Reasons">
          {e.steps.map((s, i) => (
            <li key={i} className="grid grid-cols-[1.75rem_1fr]">
              <span className="text-soft">{i + 1}.</span>
              <span className="wrap-anywhere">{s.text}</span>
            </li>
          ))}
        </ol>
      </div>
      <dl className="grid h-fit grid-cols-[7rem_1fr] gap-x-4 gap-y-2 border-l border-line pl-6">
        <dt className="text-soft">Means</dt>
        <dd>{means[e.outcome]}</dd>
        <dt className="text-soft">Place</dt>
        <dd>{e.path ? <code>{e.path}</code> : "none"}</dd>
        <dt className="text-soft">Decided by</dt>
        <dd>
          {e.decided ? (
            <>
              <code>{e.decided.path}</code>
              <span className="block text-sm text-soft">
                {e.decided.line > 0 ? `line ${e.decided.line}` : "not in the file"}, allows {e.decided.admit}
              </span>
            </>
          ) : (
            "no door: the request can't be read"
          )}
        </dd>
        <dt className="text-soft">Answer</dt>
        <dd className="wrap-anywhere">
          {e.outcome === "admit" ? "from the application" : e.answer.status}
          {e.answer.location && (
            <span className="block">
              to <code>{e.answer.location}</code>
            </span>
          )}
          {e.answer.authenticate && <code className="block">{e.answer.authenticate}</code>}
          {e.answer.say && <q className="block">{e.answer.say}</q>}
        </dd>
      </dl>
    </div>
  );
}

const means = {
  admit: "The visitor is let in.",
  challenge: "The visitor is asked to sign in or to prove something else.",
  refuse: "The visitor sees a page that says why.",
  hide: "The visitor gets the same answer as for a missing page.",
  reject: "The address can't be read safely.",
};
