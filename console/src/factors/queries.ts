import { api, at, said } from "../wire";

export const getFactors = (name: string) => said(api.GET("/people/{name}/factors", at({ name })));
export const resetFactors = (name: string) => said(api.POST("/people/{name}/factors/reset", at({ name })));
export const dropReset = (name: string) => said(api.DELETE("/people/{name}/factors/reset", at({ name })));
