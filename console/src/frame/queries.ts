import type { Status } from "../schema";
import { call } from "../wire";

export const getStatus = () => call<Status>("GET", "status");

export async function me(): Promise<{ signedIn: boolean; name: string; roles: string[] }> {
  const answer = await fetch(new URL("../me", document.baseURI));
  return answer.json();
}
