import type { Cell } from "../schema";

export type Outcome = Cell["outcome"];

// Each outcome has a shape and a color of its own, so that neither is the only sign, and a word for people.
const marks: Record<Outcome, { shape: React.ReactNode; colour: string; word: string; says: string }> = {
  admit: {
    word: "allowed",
    says: "Visitors are let in.",
    shape: <circle cx="8" cy="8" r="6.5" fill="currentColor" />,
    colour: "text-good",
  },
  challenge: {
    word: "asked to sign in",
    says: "Visitors are asked to sign in, or to prove something else.",
    shape: <path d="M8 .8 15.200 8 8 15.200.8 8z" fill="none" stroke="currentColor" strokeWidth="2.2" />,
    colour: "text-ask",
  },
  refuse: {
    word: "denied",
    says: "Visitors see a page that says why.",
    shape: <path d="M2 2h12v12H2zM5 8h6" fill="none" stroke="currentColor" strokeWidth="2.4" />,
    colour: "text-bad",
  },
  hide: {
    word: "hidden",
    says: "Visitors get the same answer as for a missing page.",
    shape: <circle cx="8" cy="8" r="6" fill="none" stroke="currentColor" strokeWidth="2" strokeDasharray="2.400 2.300" />,
    colour: "text-soft",
  },
  reject: {
    word: "invalid",
    says: "The address can't be read safely.",
    shape: <path d="M3 3l10 10M13 3L3 13" stroke="currentColor" strokeWidth="2.6" strokeLinecap="round" />,
    colour: "text-bad",
  },
};

export const isOutcome = (text: string): text is Outcome => text in marks;

// The word for people.
export const wordOf = (outcome: Outcome) => marks[outcome].word;

// The shape alone, where the word stands elsewhere.
export function OutcomeShape({ outcome }: { outcome: Outcome }) {
  const mark = marks[outcome];
  return (
    <svg viewBox="0 0 16 16" className={`h-[1em] w-[1em] shrink-0 ${mark.colour}`} aria-hidden="true">
      {mark.shape}
    </svg>
  );
}

export function OutcomeMark({ outcome }: { outcome: Outcome }) {
  const mark = marks[outcome];
  return (
    <span className="inline-flex items-center gap-2" title={mark.says}>
      <OutcomeShape outcome={outcome} />
      <span className={`font-bold ${mark.colour}`}>{mark.word}</span>
    </span>
  );
}
