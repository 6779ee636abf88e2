import type { Generate } from "../schema";
import { api, said } from "../wire";

export const estimate = (password: string, name: string) => said(api.POST("/passwords/estimate", { body: { password, name } }));
export const generate = (body: Generate = {}) => said(api.POST("/passwords/generate", { body }));
