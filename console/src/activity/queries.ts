import type { Event } from "../schema";
import { call } from "../wire";

export const getActivity = (q: Record<string, string>) => call<Event[]>("GET", "activity?" + new URLSearchParams(q));
