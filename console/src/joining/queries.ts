import type { NewInvitation } from "../schema";
import { api, at, said } from "../wire";

export const getJoining = () => said(api.GET("/joining"));
export const approve = (name: string) => said(api.POST("/joining/applications/{name}/approve", at({ name })));
export const decline = (name: string, text: string) =>
  said(api.POST("/joining/applications/{name}/decline", { ...at({ name }), body: { text } }));
export const invite = (body: NewInvitation) => said(api.POST("/joining/invitations", { body }));
export const uninvite = (email: string) => said(api.DELETE("/joining/invitations/{email}", at({ email })));
