import type { NewAccessKey } from "../schema";
import { api, at, by, said } from "../wire";

export const listKeys = (account: string) => said(api.GET("/access-keys", by({ account, limit: 50 })));
export const addKey = (body: NewAccessKey) => said(api.POST("/access-keys", { body }));
export const removeKey = (handle: string) => said(api.DELETE("/access-keys/{handle}", at({ handle })));
