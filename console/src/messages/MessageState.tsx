import type { Message } from "../schema";

const marks = { waiting: "◷", sent: "✓", failed: "✕", dropped: "–" };
const colours = { waiting: "text-ink", sent: "text-good", failed: "text-bad", dropped: "text-soft" };

// What has become of a message, with its own shape.
export function MessageState({ message: m }: { message: Message }) {
  return (
    <span className={`${colours[m.state]} whitespace-nowrap`}>
      <span aria-hidden="true" className="mr-1.5 inline-block w-3">
        {marks[m.state]}
      </span>
      {m.state}
    </span>
  );
}
