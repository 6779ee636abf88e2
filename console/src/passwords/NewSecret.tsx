import { key } from "../parts/keys";
import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { useSettled } from "../parts/hooks";
import { field, plain } from "../parts/styles";
import { estimate, generate } from "./queries";

const words = { refused: "text-bad", weak: "text-bad", fair: "text-ask", good: "text-good", strong: "text-good" };

// A password that is made here: of random characters or of words, as long as one likes, again until one likes it;
// or one's own, typed over it.
export function NewSecret({ name, value, onChange }: { name: string; value: string; onChange: (value: string) => void }) {
  const [kind, setKind] = useState<"characters" | "words">("characters");
  const [length, setLength] = useState(20);
  const [count, setCount] = useState(5);
  const [readable, setReadable] = useState(true);
  const [turn, setTurn] = useState(0);
  useEffect(() => {
    let gone = false;
    void generate(kind === "words" ? { words: count } : { length, readable }).then((made) => !gone && onChange(made.password));
    return () => {
      gone = true;
    };
    // What is made depends on what is chosen here alone, and not on whom it is for.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [kind, length, count, readable, turn]);
  const settled = useSettled({ value, name }, 250);
  const strength = useQuery({
    queryKey: key("strength", settled),
    queryFn: () => estimate(settled.value, settled.name),
    enabled: settled.value !== "",
    gcTime: 0,
    placeholderData: (before) => before,
  });
  const word = strength.data?.word;
  return (
    <fieldset className="flex flex-col gap-2">
      <legend className="mb-1 text-sm text-soft">Its password</legend>
      <div className="flex flex-wrap items-center gap-3">
        <input
          aria-label="The password"
          className={`${field} w-80 max-w-full font-mono`}
          value={value}
          onChange={(e) => onChange(e.target.value)}
          spellCheck={false}
          autoCapitalize="none"
          autoComplete="off"
        />
        <button type="button" className={plain} onClick={() => setTurn(turn + 1)}>
          Generate another
        </button>
        <span className="min-w-16 text-sm" role="status">
          {word && value && <span className={words[word]}>{word}</span>}
        </span>
      </div>
      {word === "refused" && value && <p className="text-sm text-bad">It would be rejected: {strength.data?.advice}</p>}
      <div className="flex flex-wrap items-center gap-x-5 gap-y-2 text-sm text-soft">
        <label className="flex items-center gap-2">
          Type
          <select className={field} value={kind} onChange={(e) => setKind(e.target.value as typeof kind)}>
            <option value="characters">characters</option>
            <option value="words">words</option>
          </select>
        </label>
        {kind === "words" ? (
          <label className="flex items-center gap-2">
            Length
            <input
              type="number"
              className={`${field} w-20`}
              min={4}
              max={12}
              value={count}
              onChange={(e) => setCount(Math.min(12, Math.max(4, e.target.valueAsNumber || 4)))}
            />
          </label>
        ) : (
          <>
            <label className="flex items-center gap-2">
              Length
              <input
                type="number"
                className={`${field} w-20`}
                min={10}
                max={64}
                value={length}
                onChange={(e) => setLength(Math.min(64, Math.max(10, e.target.valueAsNumber || 10)))}
              />
            </label>
            <label className="flex items-center gap-2">
              <input type="checkbox" className="h-4 w-4 accent-brass" checked={readable} onChange={(e) => setReadable(e.target.checked)} />
              {" without similar characters"}
            </label>
          </>
        )}
      </div>
    </fieldset>
  );
}
