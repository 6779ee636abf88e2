import { api, at, said } from "../wire";

export const getDoors = () => said(api.GET("/doors"));
export const getRelations = (id: number) => said(api.GET("/doors/{id}/relations", at({ id })));
export const getUpstreams = () => said(api.GET("/upstreams"));
