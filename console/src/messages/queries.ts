import type { Letter, Link, Message, Messages } from "../schema";
import { call, root } from "../wire";

export const listMessages = (q: Record<string, string>) => call<Messages>("GET", "messages?" + new URLSearchParams(q));
export const getMessage = (id: number) => call<Message>("GET", `messages/${id}`);
export const retryMessage = (id: number) => call<void>("POST", `messages/${id}/retry`);
export const dropMessage = (id: number) => call<void>("POST", `messages/${id}/drop`);
export const linkOfMessage = (id: number) => call<Link>("POST", `messages/${id}/link`);
export const testMessage = (to: string) => call<void>("POST", "messages/test", { to });
export const listKinds = () => call<string[]>("GET", "messages/kinds");
export const getSample = (kind: string, language: string) => call<Letter>("GET", `messages/kinds/${kind}?language=${language}`);
export const samplePage = (kind: string, language: string) => new URL(`messages/kinds/${kind}?language=${language}&as=page`, root).href;
