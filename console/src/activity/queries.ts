import type { Event } from "../schema";
import { call, callWhole } from "../wire";

export const getActivity = (q: Record<string, string>) => call<Event[]>("GET", "activity?" + new URLSearchParams(q));

// Searches until there are as many as are shown, or no more. Among very many records that takes several answers; each is told as it comes.
export async function searchActivity(q: Record<string, string>, limit: number, signal: AbortSignal, onPart: (found: Event[]) => void): Promise<{ events: Event[]; long: boolean }> {
  let events: Event[] = [];
  let long = false;
  for (let next: string | undefined = "activity?" + new URLSearchParams({ ...q, limit: String(limit) }); next && events.length < limit; ) {
    signal.throwIfAborted();
    const part: { said: Event[]; next?: string } = await callWhole<Event[]>("GET", next);
    events = [...events, ...part.said].slice(0, limit);
    next = part.next;
    if (next && events.length < limit) {
      long = true;
      onPart(events);
    }
  }
  return { events, long };
}
