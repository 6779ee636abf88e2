import type { Draft } from "../schema";
import { api, at, said } from "../wire";

export const getPolicy = () => said(api.GET("/policy"));
export const checkPolicy = (text: string) => said(api.POST("/policy/check", { body: { text } }));
export const applyPolicy = (body: Draft) => said(api.POST("/policy", { body }));
export const getVersions = () => said(api.GET("/policy/versions"));
export const getVersion = (id: number) => said(api.GET("/policy/versions/{id}", at({ id })));
export const rollBack = (id: number, overEdit: boolean) =>
  said(api.POST("/policy/versions/{id}/rollback", { ...at({ id }), body: { overEdit } }));
export const replayPolicy = (text: string) => said(api.POST("/policy/replay", { body: { text } }));
