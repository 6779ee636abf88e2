import type { Walk, Explanation } from "../schema";
import { call } from "../wire";

export const explain = (q: { method: string; url: string; as: string; client: string; version?: string }) => call<Explanation>("GET", "explain?" + new URLSearchParams(q));

export const walkAs = (as: string, changes: boolean) => call<Walk>("POST", "walks/as", { as, changes });
