import type { Generate, Generated, Strength } from "../schema";
import { call } from "../wire";

export const estimate = (password: string, name: string) => call<Strength>("POST", "passwords/estimate", { password, name });
export const generate = (what: Generate = {}) => call<Generated>("POST", "passwords/generate", what);
