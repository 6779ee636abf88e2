import type { EntryEdit, NewEntry } from "../schema";
import { api, at, said } from "../wire";

const entry = (ring: string, name: string) => at({ ring, name });

export const getKeyrings = () => said(api.GET("/keyrings"));
export const addEntry = (ring: string, body: NewEntry) => said(api.POST("/keyrings/{ring}/entries", { ...at({ ring }), body }));
export const setEntryPassword = (ring: string, name: string, password: string, grace: number) =>
  said(api.PUT("/keyrings/{ring}/entries/{name}/password", { ...entry(ring, name), body: { password, grace } }));
export const setEntryDisabled = (ring: string, name: string, body: boolean) =>
  said(api.PUT("/keyrings/{ring}/entries/{name}/disabled", { ...entry(ring, name), body }));
export const editEntry = (ring: string, name: string, body: EntryEdit) =>
  said(api.PATCH("/keyrings/{ring}/entries/{name}", { ...entry(ring, name), body }));
export const removeEntry = (ring: string, name: string) => said(api.DELETE("/keyrings/{ring}/entries/{name}", entry(ring, name)));
export const importEntries = (ring: string, file: string, dry: boolean) =>
  said(api.POST("/keyrings/{ring}/import", { ...at({ ring }), body: { file, dry } }));
export const exportEntries = (ring: string) => said(api.GET("/keyrings/{ring}/export", at({ ring })));
