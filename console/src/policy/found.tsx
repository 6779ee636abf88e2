import { isOutcome, wordOf } from "../parts/OutcomeMark";
import type { Change, Checked, Finding, Guarantee } from "../schema";

// What was found in a draft.

export function FindingList({ findings }: { findings: Finding[] }) {
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

const states = {
  holds: { sign: "✓", colour: "text-good" },
  broken: { sign: "✗", colour: "text-bad" },
  unproven: { sign: "?", colour: "text-ask" },
};

// What the draft promises, and whether it holds for all places and all visitors.
export function GuaranteeList({ guarantees }: { guarantees?: Guarantee[] }) {
  if (!guarantees) return <p className="text-soft">Proving …</p>;
  if (guarantees.length === 0) return <p className="text-soft">The draft has no guarantees.</p>;
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
            <code>{g.path}</code> <span className="text-soft">{g.says}</span>{" "}
            <span className={g.state === "holds" ? "sr-only" : states[g.state].colour}>{g.state}</span>
            {g.state !== "holds" && <span className="block">{g.message}</span>}
            {g.state !== "holds" && g.because && <span className="block text-soft">Reason: {g.because}</span>}
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

export function ChangeList({ changes }: { changes: Change[] }) {
  if (changes.length === 0) return <p className="text-soft">No changes to the doors.</p>;
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

const effects = { opened: "Opens", closed: "Closes", other: "Changes the answer" };

// What a draft opens and closes, for all places and all visitors.
export function OpensAndCloses({ compared }: { compared: Checked["compared"] }) {
  if (compared.unproven) return <p className="mt-3 text-sm">The effect could not be proven: {compared.unproven}</p>;
  const all = compared.differences ?? [];
  if (all.length === 0) return <p className="mt-3 text-sm">No decision changes, for any place or visitor.</p>;
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
                  {inWords(d.before)} → {inWords(d.after)}
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

// An answer in words for people: what it is, and how it is given if that isn't the usual way.
function inWords(answer: string) {
  const [outcome = "", ...how] = answer.split(" ");
  const said = [isOutcome(outcome) ? wordOf(outcome) : outcome, ...how].join(" ");
  return said.replace(" (sign-in)", "");
}
