import type { SetShared, SharedPassword, TellShared, Tellings, ToldShared, Unlocks } from "../schema";
import { call } from "../wire";

const at = (name: string) => `shared/${encodeURIComponent(name)}`;

export const getShared = () => call<SharedPassword[]>("GET", "shared");
export const setShared = (name: string, s: SetShared) => call<void>("PUT", at(name) + "/password", s);
export const withdrawShared = (name: string) => call<void>("DELETE", at(name) + "/password");
export const listUnlocks = (name: string) => call<Unlocks>("GET", at(name) + "/unlocks");
export const endUnlocks = (name: string) => call<void>("DELETE", at(name) + "/unlocks");
export const endUnlock = (handle: string) => call<void>("DELETE", `unlocks/${encodeURIComponent(handle)}`);
export const listTold = (name: string) => call<Tellings>("GET", at(name) + "/told");
export const tell = (name: string, t: TellShared) => call<ToldShared>("POST", at(name) + "/send", t);
export const previewTelling = (name: string, t: TellShared) => call<ToldShared>("POST", at(name) + "/preview", t);
