import type { Imported, Link, NewGrant, NewPerson, People, Person, PersonEdit } from "../schema";
import { call, root } from "../wire";

export interface PeopleQuery {
  search: string;
  role: string;
  state: string;
  sort: string;
  down: boolean;
  offset: number;
}

const at = (name: string) => `people/${encodeURIComponent(name)}`;

export const listPeople = (q: PeopleQuery) => call<People>("GET", "people?" + new URLSearchParams({ ...q, down: String(q.down), offset: String(q.offset), limit: "50" }));
export const getPerson = (name: string) => call<Person>("GET", at(name));
export const addPerson = (p: NewPerson) => call<Person>("POST", "people", p);
export const editPerson = (name: string, to: PersonEdit) => call<Person>("PATCH", at(name), to);
export const removePerson = (name: string) => call<void>("DELETE", at(name));
export const setPassword = (name: string, password: string) => call<void>("PUT", at(name) + "/password", { password });
export const setDisabled = (name: string, disabled: boolean) => call<void>("PUT", at(name) + "/disabled", disabled);
export const mailLink = (name: string) => call<void>("POST", at(name) + "/link/mail");
export const makeLink = (name: string) => call<Link>("POST", at(name) + "/link");
export const endSessionsOf = (name: string) => call<{ ended: number }>("DELETE", at(name) + "/sessions");
export const grantRole = (name: string, g: NewGrant) => call<void>("POST", at(name) + "/grants", g);
export const revokeRole = (name: string, role: string) => call<void>("DELETE", `${at(name)}/grants/${encodeURIComponent(role)}`);
export const importPeople = (file: string, dry: boolean) => call<Imported>("POST", "people/import", { file, dry }).then((i) => i.results);

// The addresses of the files of all accounts.
export const exported = { CSV: new URL("people.csv", root).href, JSON: new URL("people.json", root).href };
