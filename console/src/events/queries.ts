import type { EventSecret, ImportedPayments, MadeSecret, MadeTarget, ShopEvent, ShopEvents, Target } from "../schema";
import { call } from "../wire";

export const listEvents = (q: Record<string, string>) => call<ShopEvents>("GET", "events?" + new URLSearchParams(q));
export const getEvent = (id: number) => call<ShopEvent>("GET", `events/${id}`);
export const retryEvent = (id: number) => call<void>("POST", `events/${id}/retry`);
export const dropEvent = (id: number) => call<void>("POST", `events/${id}/drop`);
export const importPayments = (file: string, dryRun: boolean) => call<ImportedPayments>("POST", "events/import", { file, dryRun });
export const listSecrets = () => call<EventSecret[]>("GET", "events/secrets");
export const addSecret = (grace?: number) => call<MadeSecret>("POST", "events/secrets", grace === undefined ? {} : { grace });
export const removeSecret = (id: number) => call<void>("DELETE", `events/secrets/${id}`);
export const listTargets = () => call<Target[]>("GET", "targets");
export const addTarget = (url: string, kinds: string[]) => call<MadeTarget>("POST", "targets", { url, kinds });
export const removeTarget = (id: number) => call<void>("DELETE", `targets/${id}`);
export const testTarget = (id: number) => call<void>("POST", `targets/${id}/test`);
