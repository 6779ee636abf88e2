import type { Sessions } from "../schema";
import { call } from "../wire";

export const listSessions = (q: { account?: string; search?: string; offset: number }) =>
  call<Sessions>("GET", "sessions?" + new URLSearchParams({ account: q.account ?? "", search: q.search ?? "", offset: String(q.offset), limit: "50" }));
export const endSession = (handle: string) => call<void>("DELETE", `sessions/${encodeURIComponent(handle)}`);
