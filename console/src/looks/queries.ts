import { api, by, root, said } from "../wire";

// Colours that are tried out, by their names in the policy; those of dark pages with "dark-" in front.
export type Tried = Record<string, string>;

export const getLooks = (tried: Tried) => said(api.GET("/looks", by(tried)));
export const pageAt = (page: string, q: Tried) => new URL(`looks/pages/${page}?` + new URLSearchParams(q), root).href;
export const mailAt = (kind: string, q: Tried) => new URL(`messages/kinds/${kind}?` + new URLSearchParams({ ...q, as: "page" }), root).href;
