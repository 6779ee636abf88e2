import { api, said } from "../wire";

export const getToday = () => said(api.GET("/today"));
