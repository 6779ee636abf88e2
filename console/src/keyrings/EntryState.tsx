import { when } from "../parts/format";
import type { Entry } from "../schema";

export function EntryState({ entry: e }: { entry: Entry }) {
  if (e.disabled) return <span className="font-bold text-bad">disabled</span>;
  if (e.until && new Date(e.until).getTime() <= Date.now()) return <span className="text-soft">ended</span>;
  if (e.oldUntil) return <span className="text-ask">two passwords until {when(e.oldUntil)}</span>;
  return <span className="text-good">enabled</span>;
}
