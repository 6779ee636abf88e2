import type { ImportedPasses, IssuedPass, NewPass, Pass, Passes, PassesImport, PassKind, RenewPass, ResendPass, RotatedPasses, RotatePasses } from "../schema";
import { call } from "../wire";

const at = (id: string) => `passes/${encodeURIComponent(id)}`;

export const getPassKinds = () => call<PassKind[]>("GET", "passes/kinds");
export const listPasses = (q: Record<string, string>) => call<Passes>("GET", "passes?" + new URLSearchParams({ ...q, limit: "50" }));
export const getPass = (id: string) => call<Pass>("GET", at(id));
export const issuePass = (n: NewPass) => call<IssuedPass>("POST", "passes", n);
export const importPasses = (i: PassesImport) => call<ImportedPasses>("POST", "passes/import", i);
export const doPass = (what: "revoke" | "pause" | "resume", id: string) => call<void>("POST", `${at(id)}/${what}`);
export const renewPass = (id: string, r: RenewPass) => call<Pass>("POST", at(id) + "/renew", r);
export const resendPass = (id: string, r: ResendPass) => call<IssuedPass>("POST", at(id) + "/resend", r);
export const rotatePasses = (r: RotatePasses) => call<RotatedPasses>("POST", "passes/rotate", r);
