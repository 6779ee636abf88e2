import type { PatrolResult, Patrols } from "../schema";
import { call } from "../wire";

export const listPatrols = () => call<Patrols>("GET", "patrols");
export const getPatrol = (id: number) => call<PatrolResult>("GET", `patrols/${id}`);
export const startPatrol = () => call<void>("POST", "patrols");
export const stopPatrol = () => call<void>("DELETE", "patrols/running");
export const acceptFinding = (id: number, key: string, reason: string, until?: string) => call<void>("POST", `patrols/${id}/accepted`, { key, reason, ...(until ? { until } : {}) });
export const rejectFinding = (key: string) => call<void>("POST", "patrols/rejected", { key });
