// How the console speaks with the service.

import createClient from "openapi-fetch";
import type { paths } from "./schema";

export const root = new URL("../api/v1/", document.baseURI);

export class Failure extends Error {
  constructor(
    readonly status: number,
    message: string,
    readonly code = "",
  ) {
    super(message);
  }
}

// Asks for the password again; answers with it, or with "" if nobody types it. The frame sets it.
let askPassword: (problem: string) => Promise<string> = async () => "";
export function onProofNeeded(ask: typeof askPassword) {
  askPassword = ask;
}

// That the password was typed, as this page alone can show: it came with the page, or with the answer
// to the password.
const proofMark = document.querySelector<HTMLMetaElement>('meta[name="proof"]');
let proof = proofMark?.content ?? "";
proofMark?.remove();

// Each request goes out with the proof. What changes something asks for the password, if it was not entered of late; then the request
// is sent again. What is not carried out is thrown as a Failure.
async function send(request: Request): Promise<Response> {
  for (let problem = ""; ;) {
    const again = request.clone();
    if (proof) again.headers.set("Ostiarius-Proof", proof);
    let answer: Response;
    try {
      answer = await fetch(again);
    } catch {
      throw new Failure(0, "The service does not answer. Is it still running?");
    }
    if (answer.ok) return answer;
    const said = await answer.json().catch(() => ({}));
    const failure = new Failure(answer.status, said.detail ?? `The service answered ${answer.status}.`, said.code);
    if (failure.code !== "proof-needed") throw failure;
    const password = await askPassword(problem);
    if (!password) throw failure;
    const proven = await fetch(new URL("prove-again", new URL("../", document.baseURI)), {
      method: "POST",
      headers: { Accept: "application/json", "Content-Type": "application/json" },
      body: JSON.stringify({ password }),
    });
    const told = await proven.json().catch(() => ({}));
    proof = told.proof ?? proof;
    problem = proven.ok ? "" : (told.detail ?? "That did not work. Please try again.");
  }
}

// The operations of the API, by method and path, with the types of its description.
export const api = createClient<paths>({
  baseUrl: root.href.replace(/\/$/, ""),
  headers: { Accept: "application/json", "X-Requested-With": "console" },
  fetch: send,
});

// What an operation answers.
export async function said<T>(asked: Promise<{ data?: T }>): Promise<T> {
  return (await asked).data as T;
}

// Where something is, by the parts of its path.
export const at = <P>(path: P) => ({ params: { path } });

// What may be asked for in a query, as filters and parts of a list.
export type Query<P extends keyof paths> = paths[P] extends { get: { parameters: { query?: infer Q } } } ? NonNullable<Q> : never;
export const by = <Q>(query: Q) => ({ params: { query } });

// The same in the words of an address bar. Their names are checked here; what they may be, the service says.
export type Words<P extends keyof paths> = { [K in keyof Query<P>]?: string | number | boolean };
export const byWords = <P extends keyof paths>(q: Words<P>) => by(q as Query<P>);

// Where the next part of a list begins, if there is one (RFC 8288).
export function nextOf(answer: Response): string | undefined {
  return /<([^>]*)>;\s*rel="next"/.exec(answer.headers.get("Link") ?? "")?.[1];
}

export const styleNonce = document.querySelector<HTMLMetaElement>('meta[name="style-nonce"]')?.content ?? "";

export const ownPages = new URL("../", document.baseURI).pathname;
