import type { Applied, Checked, Draft, Replayed, Version } from "../schema";
import { call } from "../wire";

export const getPolicy = () => call<Version>("GET", "policy");
export const checkPolicy = (text: string) => call<Checked>("POST", "policy/check", { text });
export const applyPolicy = (draft: Draft) => call<Applied>("POST", "policy", draft);
export const getVersions = () => call<Version[]>("GET", "policy/versions");
export const getVersion = (id: number) => call<Version>("GET", `policy/versions/${id}`);
export const rollBack = (id: number, overEdit: boolean) => call<Applied>("POST", `policy/versions/${id}/rollback`, { overEdit });

export const replayPolicy = (text: string) => call<Replayed>("POST", "policy/replay", { text });
