import type { AccessKeys, MadeAccessKey, NewAccessKey } from "../schema";
import { call } from "../wire";

export const listKeys = (account: string) => call<AccessKeys>("GET", "access-keys?" + new URLSearchParams({ account, limit: "50" }));
export const addKey = (k: NewAccessKey) => call<MadeAccessKey>("POST", "access-keys", k);
export const removeKey = (handle: string) => call<void>("DELETE", `access-keys/${encodeURIComponent(handle)}`);
