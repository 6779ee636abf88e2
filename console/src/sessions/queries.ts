import { api, at, by, said, type Query } from "../wire";

export const listSessions = (q: Query<"/sessions">) => said(api.GET("/sessions", by({ ...q, limit: 50 })));
export const endSession = (handle: string) => said(api.DELETE("/sessions/{handle}", at({ handle })));
