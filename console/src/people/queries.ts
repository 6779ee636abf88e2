import type { NewGrant, NewPerson, PersonEdit } from "../schema";
import { api, at, byWords, root, said, type Words } from "../wire";

export const listPeople = (q: Words<"/people">) => said(api.GET("/people", byWords<"/people">({ ...q, limit: 50 })));
export const getPerson = (name: string) => said(api.GET("/people/{name}", at({ name })));
export const addPerson = (body: NewPerson) => said(api.POST("/people", { body }));
export const editPerson = (name: string, body: PersonEdit) => said(api.PATCH("/people/{name}", { ...at({ name }), body }));
export const removePerson = (name: string) => said(api.DELETE("/people/{name}", at({ name })));
export const setPassword = (name: string, password: string) =>
  said(api.PUT("/people/{name}/password", { ...at({ name }), body: { password } }));
export const setDisabled = (name: string, body: boolean) => said(api.PUT("/people/{name}/disabled", { ...at({ name }), body }));
export const mailLink = (name: string) => said(api.POST("/people/{name}/link/mail", at({ name })));
export const makeLink = (name: string) => said(api.POST("/people/{name}/link", at({ name })));
export const endSessionsOf = (name: string) => said(api.DELETE("/people/{name}/sessions", at({ name })));
export const grantRole = (name: string, body: NewGrant) => said(api.POST("/people/{name}/grants", { ...at({ name }), body }));
export const revokeRole = (name: string, role: string) => said(api.DELETE("/people/{name}/grants/{role}", at({ name, role })));
export const importPeople = (file: string, dry: boolean) =>
  said(api.POST("/people/import", { body: { file, dry } })).then((i) => i.results);

// The addresses of the files of all accounts.
export const exported = { CSV: new URL("people.csv", root).href, JSON: new URL("people.json", root).href };
