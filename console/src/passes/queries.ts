import type { NewPass, PassesImport, PassRenewal, PassResending, PassRotation } from "../schema";
import { api, at, byWords, said, type Words } from "../wire";

export const getPassKinds = () => said(api.GET("/passes/kinds"));
export const listPasses = (q: Words<"/passes">) => said(api.GET("/passes", byWords<"/passes">({ ...q, limit: 50 })));
export const getPass = (id: string) => said(api.GET("/passes/{id}", at({ id })));
export const issuePass = (body: NewPass) => said(api.POST("/passes", { body }));
export const importPasses = (body: PassesImport) => said(api.POST("/passes/import", { body }));
export const doPass = (what: "revoke" | "pause" | "resume", id: string) => said(api.POST(`/passes/{id}/${what}`, at({ id })));
export const renewPass = (id: string, body: PassRenewal) => said(api.POST("/passes/{id}/renew", { ...at({ id }), body }));
export const resendPass = (id: string, body: PassResending) => said(api.POST("/passes/{id}/resend", { ...at({ id }), body }));
export const rotatePasses = (body: PassRotation) => said(api.POST("/passes/rotate", { body }));
