// The lines that will stand in the file, and those that will not, folded.
export function Lines({ text }: { text: string }) {
  const lines = text
    .split("\n")
    .slice(2)
    .filter((l) => !l.startsWith("@@"));
  return (
    <details>
      <summary className="cursor-pointer text-soft">The lines in the policy file</summary>
      <pre className="mt-2 overflow-x-auto rounded border border-line bg-paper p-3 text-sm">
        {lines.map((l, i) => (
          <span key={i} className={`block ${l.startsWith("+") ? "text-good" : l.startsWith("-") ? "text-bad" : "text-soft"}`}>
            {l || " "}
          </span>
        ))}
      </pre>
    </details>
  );
}
