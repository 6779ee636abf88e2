import { api, byWords, said, type Words } from "../wire";

export const explain = (q: Words<"/explain">) => said(api.GET("/explain", byWords<"/explain">(q)));
export const walkAs = (as: string, changes: boolean) => said(api.POST("/walks/as", { body: { as, changes } }));
