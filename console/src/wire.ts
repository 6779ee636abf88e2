// How the console speaks with the service.

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

// What changes something asks for the password, if it was not typed of late; then the request is sent
// again.
export async function call<T>(method: string, path: string, body?: unknown): Promise<T> {
  return (await callWhole<T>(method, path, body)).said;
}

// An answer, and the address of the next part of a list, if there is one (RFC 8288).
export type Whole<T> = { said: T; next?: string };

export async function callWhole<T>(method: string, path: string, body?: unknown): Promise<Whole<T>> {
  for (let problem = ""; ; ) {
    try {
      return await send<T>(method, path, body);
    } catch (failure) {
      if (!(failure instanceof Failure) || failure.code !== "proof-needed") throw failure;
      const password = await askPassword(problem);
      if (!password) throw failure;
      const proven = await fetch(new URL("prove-again", new URL("../", document.baseURI)), {
        method: "POST",
        headers: { Accept: "application/json", "Content-Type": "application/json" },
        body: JSON.stringify({ password }),
      });
      const said = await proven.json().catch(() => ({}));
      proof = said.proof ?? proof;
      problem = proven.ok ? "" : (said.detail ?? "That did not work. Please try again.");
    }
  }
}

async function send<T>(method: string, path: string, body?: unknown): Promise<Whole<T>> {
  let answer: Response;
  try {
    answer = await fetch(new URL(path, root), {
      method,
      headers: { Accept: "application/json", "X-Requested-With": "console", ...(proof ? { "Ostiarius-Proof": proof } : {}), ...(body === undefined ? {} : { "Content-Type": "application/json" }) },
      body: body === undefined ? undefined : JSON.stringify(body),
    });
  } catch {
    throw new Failure(0, "The service does not answer. Is it still running?");
  }
  if (!answer.ok) {
    const problem = await answer.json().catch(() => ({}));
    throw new Failure(answer.status, problem.detail ?? `The service answered ${answer.status}.`, problem.code);
  }
  const next = /<([^>]*)>;\s*rel="next"/.exec(answer.headers.get("Link") ?? "")?.[1];
  return { said: answer.status === 204 ? (undefined as T) : await answer.json(), next };
}


export const styleNonce = document.querySelector<HTMLMetaElement>('meta[name="style-nonce"]')?.content ?? "";

export const ownPages = new URL("../", document.baseURI).pathname;
