import type { Edit } from "../schema";
import { api, by, said } from "../wire";

export const getSite = (as: string, place: string) => said(api.GET("/site", by({ as: as || undefined, place })));
export const tryEdits = (edits: Edit[]) => said(api.POST("/policy/edit", { body: { edits } }));
