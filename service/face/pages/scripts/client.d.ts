/** Who is here: GET /door/me. */
export interface Me {
  signedIn: boolean;
  /** "" for nobody */
  name: string;
  /** with those that they include */
  roles: string[];
  /** when the password was typed last, when the session ends whatever happens (RFC 3339), and after how many seconds without a request */
  proven?: string;
  ends?: string;
  idle?: number;
  /** the shared passwords that are unlocked, and the kinds of pass that are held */
  unlocked: string[];
  passes: string[];
  ways: { signIn?: string; signOut?: string; account?: string; proveAgain?: string; unlock?: string; join?: string; recover?: string };
}

/** What somebody would get at an address: POST /door/may. */
export interface Place {
  path: string;
  method: string;
  may: boolean;
  outcome: "admit" | "challenge" | "refuse" | "reject" | "missing";
  /** what is missing, and the name of the shared password or the kind of pass */
  code?: string;
  name?: string;
  /** where to go instead */
  go?: string;
}

/** What went wrong, with a code of the documentation; "offline" where there was no answer. */
export class DoorError extends Error {
  readonly code: string;
  readonly status: number;
  /** seconds before the next try */
  readonly wait?: number;
  readonly reference?: string;
}

/** Who is here: one question for all who ask, until something changes. */
export function here(): Promise<Me>;
/** Asks anew who is here. */
export function refresh(): Promise<Me>;
/** Calls back with who is here whenever that changes, in this tab or another; returns what ends it. */
export function watch(watcher: (me: Me) => void): () => void;

/** What somebody would get at an address; what is asked at once is one question. */
export function may(address: string, options?: { method?: string }): Promise<Place>;
export function may(addresses: string[], options?: { method?: string }): Promise<Place[]>;
/** A guard for routers: null to go on, or the address where to go instead; in full where the page is of another origin than the site.
 * Visitors who are refused go to refused, "/" unless given. */
export function lead(address: string, options?: { refused?: string }): Promise<string | null>;

/** These reject with a DoorError; then who is here is asked anew, and other tabs are told. */
export function signIn(fields: {
  username: string;
  password: string;
  remember?: boolean;
  next?: string;
}): Promise<{ signedIn: true; name: string; roles: string[]; next: string }>;
/** In a page of another origin: goes to the site's page for that, and comes back. The others of this kind reject with "other-origin"
 * there. */
export function signOut(): Promise<object>;
export function join(fields: {
  username: string;
  email?: string;
  password: string;
  agree?: boolean;
  next?: string;
}): Promise<{ joined: boolean; state?: string; next?: string }>;
export function recover(fields: { username?: string; email?: string }): Promise<object>;
/** After a sign-in that was answered with the code factor-needed: a code of the app, or one that was kept. */
export function secondFactor(code: string): Promise<{ signedIn: boolean; name: string; roles: string[]; next: string }>;
export function proveAgain(password: string): Promise<{ next: string }>;
export function unlock(name: string, password: string): Promise<{ unlocked: true; next: string }>;

/** Asks for what a code says is missing; resolves to whether it was proven. */
export type Way = (code: string, name?: string) => Promise<boolean>;
/** By going to the page, and coming back to where they are: how they are asked unless told otherwise. */
export const byPage: Way;
/** In a dialogue over the page, in which the pages of the door are. */
export const byDialogue: Way;
export function askBy(way: Way): void;
/** fetch that meets a door: what is missing is asked for, and the request is sent once more. */
export function knock(input: RequestInfo | URL, init?: RequestInit): Promise<Response>;
