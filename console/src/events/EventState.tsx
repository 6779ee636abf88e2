import type { ShopEvent } from "../schema";

const looks: Record<ShopEvent["state"], { mark: string; colour: string; text: string }> = {
  waiting: { mark: "◷", colour: "text-ink", text: "queued" },
  done: { mark: "✓", colour: "text-good", text: "done" },
  kept: { mark: "!", colour: "font-bold text-ask", text: "needs attention" },
  ignored: { mark: "–", colour: "text-soft", text: "ignored" },
};

export const stateText = (state: ShopEvent["state"]) => looks[state].text;

// What has become of an event, with its own shape.
export function EventState({ state }: { state: ShopEvent["state"] }) {
  const { mark, colour, text } = looks[state];
  return (
    <span className={`${colour} whitespace-nowrap`}>
      <span aria-hidden="true" className="mr-1.5 inline-block w-3 text-center">
        {mark}
      </span>
      {text}
    </span>
  );
}

export const buyer = (e: ShopEvent) => e.account || e.address || "";
export const items = (e: ShopEvent) => e.items.map((i) => (i.number > 1 ? `${i.number} × ` : "") + (i.name || i.item)).join(", ");
