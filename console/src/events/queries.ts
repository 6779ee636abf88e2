import { api, at, byWords, said, type Words } from "../wire";

export const listEvents = (q: Words<"/events">) => said(api.GET("/events", byWords<"/events">(q)));
export const getEvent = (id: number) => said(api.GET("/events/{id}", at({ id })));
export const retryEvent = (id: number) => said(api.POST("/events/{id}/retry", at({ id })));
export const dropEvent = (id: number) => said(api.POST("/events/{id}/drop", at({ id })));
export const importPayments = (file: string, dryRun: boolean) => said(api.POST("/events/import", { body: { file, dryRun } }));
export const listSecrets = () => said(api.GET("/events/secrets"));
export const addSecret = (grace?: number) => said(api.POST("/events/secrets", { body: { grace } }));
export const removeSecret = (id: number) => said(api.DELETE("/events/secrets/{id}", at({ id })));
export const listTargets = () => said(api.GET("/targets"));
export const addTarget = (url: string, kinds: string[]) => said(api.POST("/targets", { body: { url, kinds } }));
export const removeTarget = (id: number) => said(api.DELETE("/targets/{id}", at({ id })));
export const testTarget = (id: number) => said(api.POST("/targets/{id}/test", at({ id })));
