import type { Me } from "../schema";
import { api, said } from "../wire";

export const getStatus = () => said(api.GET("/status"));

export async function me(): Promise<Me> {
  const answer = await fetch(new URL("../me", document.baseURI));
  return answer.json();
}
