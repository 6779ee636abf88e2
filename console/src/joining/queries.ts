import type { Invited, Joining, NewInvitation } from "../schema";
import { call } from "../wire";

const application = (name: string) => `joining/applications/${encodeURIComponent(name)}`;

export const getJoining = () => call<Joining>("GET", "joining");
export const approve = (name: string) => call<void>("POST", application(name) + "/approve");
export const decline = (name: string, text: string) => call<void>("POST", application(name) + "/decline", { text });
export const invite = (i: NewInvitation) => call<Invited>("POST", "joining/invitations", i);
export const uninvite = (email: string) => call<void>("DELETE", `joining/invitations/${encodeURIComponent(email)}`);
