import type { Members, MembersWeek } from "../schema";
import { call } from "../wire";

export const listMembers = (q: Record<string, string>) => call<Members>("GET", "members?" + new URLSearchParams(q));
export const listWeeks = (weeks: number) => call<MembersWeek[]>("GET", `members/weeks?weeks=${weeks}`);
