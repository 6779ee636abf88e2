import type { ActivityRecord } from "../schema";
import { api, byWords, nextOf, type Words } from "../wire";

// Searches until there are as many as are shown, or no more. Among very many records that takes several answers; each is told as it comes.
export async function searchActivity(
  q: Words<"/activity">,
  limit: number,
  signal: AbortSignal,
  onPart: (found: ActivityRecord[]) => void,
): Promise<{ events: ActivityRecord[]; long: boolean }> {
  let events: ActivityRecord[] = [];
  let long = false;
  for (let before = q.before; events.length < limit;) {
    signal.throwIfAborted();
    const { data, response } = await api.GET("/activity", byWords<"/activity">({ ...q, before, limit }));
    events = [...events, ...(data ?? [])].slice(0, limit);
    const next = nextOf(response);
    if (!next) break;
    before = Number(new URL(next, response.url).searchParams.get("before"));
    if (events.length < limit) {
      long = true;
      onPart(events);
    }
  }
  return { events, long };
}
