import type { FactorReset, HeldFactors } from "../schema";
import { call } from "../wire";

const at = (name: string) => `people/${encodeURIComponent(name)}/factors`;

export const getFactors = (name: string) => call<HeldFactors>("GET", at(name));
export const resetFactors = (name: string) => call<FactorReset>("POST", at(name) + "/reset");
export const dropReset = (name: string) => call<void>("DELETE", at(name) + "/reset");
