import type { Edit, Edited, Site } from "../schema";
import { call } from "../wire";

export const getSite = (as: string, place: string) => call<Site>("GET", `site?${new URLSearchParams({ ...(as ? { as } : {}), place })}`);
export const tryEdits = (edits: Edit[]) => call<Edited>("POST", "policy/edit", { edits });
