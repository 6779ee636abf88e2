import type { Phrase } from "../schema";

export type About = "who" | "do" | "where" | "also" | "others" | "";

const choiceOf = (about: string) => (about === "anonymous" || about === "refused" ? "others" : about) as About;
const labels: Record<string, string> = {
  who: "who may go there",
  do: "what they may do",
  where: "which places",
  also: "what else is required",
  others: "what others get",
};

// A door as it is told to people. The words that say something of it are buttons, each opens its choices.
export function Sentence({
  phrases,
  pale,
  open,
  onOpen,
}: {
  phrases: Phrase[];
  pale: boolean;
  open: About;
  onOpen: (about: About) => void;
}) {
  const missing = !phrases.some((p) => p.about === "also") && phrases.some((p) => p.about === "who" && p.text !== "Nobody");
  const word = (about: About, text: string, key?: number) => (
    // A button of HTML is a block that does not break over lines; a sentence does.
    <span
      key={key}
      role="button"
      tabIndex={0}
      aria-expanded={open === about}
      aria-label={`${text}: change ${labels[about]}`}
      data-about={about}
      className={`cursor-pointer rounded-sm underline decoration-brass decoration-2 underline-offset-4 hover:bg-hover
        ${pale ? "" : "font-bold"} ${open === about ? "bg-hover" : ""}`}
      onClick={() => onOpen(open === about ? "" : about)}
      onKeyDown={(e) => {
        if (e.key !== "Enter" && e.key !== " ") return;
        e.preventDefault();
        onOpen(open === about ? "" : about);
      }}
    >
      {text}
    </span>
  );
  return (
    <p className={`mt-1 text-lg leading-8 ${pale ? "text-soft" : ""}`} data-testid="sentence" aria-live="polite">
      {phrases.map((p, i) => (p.about ? word(choiceOf(p.about), p.text, i) : <span key={i}>{p.text}</span>))}
      {missing && (
        <span className="text-base">
          {" "}
          <span className="text-soft">(</span>
          {word("also", "and also …")}
          <span className="text-soft">)</span>
        </span>
      )}
    </p>
  );
}
