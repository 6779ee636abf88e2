import { api, at, said } from "../wire";

export const listPatrols = () => said(api.GET("/patrols"));
export const getPatrol = (id: number) => said(api.GET("/patrols/{id}", at({ id })));
export const startPatrol = () => said(api.POST("/patrols"));
export const stopPatrol = () => said(api.DELETE("/patrols/running"));
export const acceptFinding = (id: number, key: string, reason: string, until?: string) =>
  said(api.POST("/patrols/{id}/accepted", { ...at({ id }), body: { key, reason, until: until || undefined } }));
export const rejectFinding = (key: string) => said(api.POST("/patrols/rejected", { body: { key } }));
