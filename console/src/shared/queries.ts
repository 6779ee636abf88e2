import type { NewShared, TellShared } from "../schema";
import { api, at, said } from "../wire";

export const getShared = () => said(api.GET("/shared"));
export const setShared = (name: string, body: NewShared) => said(api.PUT("/shared/{name}/password", { ...at({ name }), body }));
export const withdrawShared = (name: string) => said(api.DELETE("/shared/{name}/password", at({ name })));
export const listUnlocks = (name: string) => said(api.GET("/shared/{name}/unlocks", at({ name })));
export const endUnlocks = (name: string) => said(api.DELETE("/shared/{name}/unlocks", at({ name })));
export const endUnlock = (handle: string) => said(api.DELETE("/unlocks/{handle}", at({ handle })));
export const listTold = (name: string) => said(api.GET("/shared/{name}/told", at({ name })));
export const tell = (name: string, body: TellShared) => said(api.POST("/shared/{name}/send", { ...at({ name }), body }));
export const previewTelling = (name: string, body: TellShared) => said(api.POST("/shared/{name}/preview", { ...at({ name }), body }));
