import { api, by, byWords, said, type Words } from "../wire";

export const listMembers = (q: Words<"/members">) => said(api.GET("/members", byWords<"/members">(q)));
export const listWeeks = (weeks: number) => said(api.GET("/members/weeks", by({ weeks })));
