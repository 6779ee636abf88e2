import { api, at, byWords, root, said, type Query, type Words } from "../wire";

export const listMessages = (q: Words<"/messages">) => said(api.GET("/messages", byWords<"/messages">(q)));
export const getMessage = (id: number) => said(api.GET("/messages/{id}", at({ id })));
export const retryMessage = (id: number) => said(api.POST("/messages/{id}/retry", at({ id })));
export const dropMessage = (id: number) => said(api.POST("/messages/{id}/drop", at({ id })));
export const linkOfMessage = (id: number) => said(api.POST("/messages/{id}/link", at({ id })));
export const testMessage = (to: string) => said(api.POST("/messages/test", { body: { to } }));
export const listKinds = () => said(api.GET("/messages/kinds"));
export const getSample = (kind: string, language: Query<"/messages/kinds/{kind}">["language"]) =>
  said(api.GET("/messages/kinds/{kind}", { params: { path: { kind }, query: { language } } }));
export const samplePage = (kind: string, language: string) => new URL(`messages/kinds/${kind}?language=${language}&as=page`, root).href;
