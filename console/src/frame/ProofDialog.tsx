import { useEffect, useState } from "react";
import { Panel } from "../parts/dialog";
import { field, plain, primary } from "../parts/styles";
import { onProofNeeded } from "../wire";

// Asks for the password again before what changes something. What was being done goes on
// afterwards; nothing that was typed is lost.
export function ProofDialog() {
  const [asked, setAsked] = useState<{ problem: string; answer: (password: string) => void }>();
  const [password, setPassword] = useState("");
  useEffect(() => onProofNeeded((problem) => new Promise((answer) => setAsked({ problem, answer }))), []);
  const answer = (text: string) => {
    asked?.answer(text);
    setAsked(undefined);
    setPassword("");
  };
  return (
    <Panel open={!!asked} title="Confirm your password" onClose={() => answer("")}>
      <p className="mt-2">Changes need your password if you haven't entered it on this page in the last 15 minutes.</p>
      <form
        className="mt-4 flex flex-col gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          e.stopPropagation();
          if (password) answer(password);
        }}
      >
        {asked?.problem && (
          <p role="alert" className="text-bad">
            {asked.problem}
          </p>
        )}
        <label className="flex flex-col gap-1 text-sm">
          Password
          <input
            id="proof-password"
            type="password"
            autoComplete="current-password"
            autoFocus
            className={field}
            value={password}
            onChange={(e) => setPassword(e.target.value)}
          />
        </label>
        <div className="flex gap-2">
          <button type="submit" className={primary} disabled={!password}>
            Continue
          </button>
          <button type="button" className={plain} onClick={() => answer("")}>
            Cancel
          </button>
        </div>
      </form>
    </Panel>
  );
}
