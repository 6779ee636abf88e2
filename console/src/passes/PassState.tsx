import { ends } from "../parts/format";
import type { Pass } from "../schema";

const looks: Record<Pass["state"], { mark: string; colour: string; text: string }> = {
  waiting: { mark: "○", colour: "text-soft", text: "not used yet" },
  open: { mark: "●", colour: "text-good", text: "open" },
  "used-up": { mark: "◐", colour: "text-ask", text: "used up" },
  ended: { mark: "◌", colour: "text-soft", text: "ended" },
  paused: { mark: "‖", colour: "font-bold text-ask", text: "paused" },
  revoked: { mark: "✕", colour: "text-bad", text: "revoked" },
};

export const stateText = (state: Pass["state"]) => looks[state].text;

// What a pass is worth, in a word with a shape of its own.
export function PassState({ pass: p }: { pass: Pass }) {
  const { mark, colour, text } = looks[p.state];
  return (
    <span className={`${colour} whitespace-nowrap`}>
      <span aria-hidden="true" className="mr-1.5 inline-block w-4 text-center text-xs">
        {mark}
      </span>
      {text}
    </span>
  );
}

export const passEnd = (p: Pass) => (p.until ? ends(p.until) : p.lasts ? `${p.lasts} from the first use` : "no end");
export const downloads = (p: Pass) => (p.downloads.allowed ? `${p.downloads.used} of ${p.downloads.allowed}` : String(p.downloads.used));
