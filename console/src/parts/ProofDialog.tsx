import { Dialog, DialogPanel, DialogTitle } from "@headlessui/react";
import { useEffect, useState } from "react";
import { onProofNeeded } from "../api";
import { field, plain, primary } from "./controls";

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
    <Dialog open={!!asked} onClose={() => answer("")} className="relative z-40">
      <div className="fixed inset-0 bg-black/40" aria-hidden="true" />
      <div className="fixed inset-0 flex items-center justify-center p-4">
        <DialogPanel className="w-full max-w-md rounded border border-line bg-sheet p-6">
          <DialogTitle className="text-lg font-bold">Is it still you?</DialogTitle>
          <p className="mt-2">Please type your password again. It is asked for before a change, if you have not typed it in this page in the last 15 minutes.</p>
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
              <input id="proof-password" type="password" autoComplete="current-password" autoFocus className={field} value={password} onChange={(e) => setPassword(e.target.value)} />
            </label>
            <div className="flex gap-2">
              <button type="submit" className={primary} disabled={!password}>
                Go on
              </button>
              <button type="button" className={plain} onClick={() => answer("")}>
                Cancel
              </button>
            </div>
          </form>
        </DialogPanel>
      </div>
    </Dialog>
  );
}
