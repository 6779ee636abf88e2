import { useState } from "react";
import { small } from "./styles";

// Copies a text, and says so.
export function Copy({ text, label = "Copy" }: { text: string; label?: string }) {
  const [copied, setCopied] = useState("");
  const [failed, setFailed] = useState(false); // browsers keep the clipboard to themselves where there is no HTTPS
  return (
    <button
      type="button"
      className={small}
      onClick={async () => {
        try {
          await navigator.clipboard.writeText(text);
          setCopied(text);
        } catch {
          setFailed(true);
        }
      }}
    >
      {failed ? "Select it to copy it" : copied === text ? "Copied" : label}
    </button>
  );
}

// Shows a secret once, with a way to keep it.
export function Secret({ label, text }: { label: string; text: string }) {
  return (
    <div className="rounded border border-line bg-paper p-3">
      <p className="text-sm text-soft">{label}</p>
      <div className="mt-1 flex flex-wrap items-center gap-3">
        <code className="wrap-anywhere" data-testid="secret">
          {text}
        </code>
        <Copy text={text} />
      </div>
    </div>
  );
}
