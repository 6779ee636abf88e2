// The administration API, as the service describes it. The types follow client/types.go
// and core/policy/explain.go.

export interface Door {
  id: number;
  line: number;
  entry: number;
  path: string;
  host?: string;
  methods: string[];
  admit: string;
  asks: string;
  basic: boolean;
  anonymous?: string;
  refused?: string;
}

export interface Doors {
  site: string;
  prefix: string;
  file: string;
  roles: string[];
  unlisted: string;
  doors: Door[];
  builtIn: Door[];
  sources: { path: string; host?: string; files?: string; proxy?: string }[];
}

export type Outcome = "admit" | "challenge" | "refuse" | "hide" | "reject";

export interface DoorRef {
  line: number;
  path: string;
  admit: string;
}

export interface Explanation {
  outcome: Outcome;
  path: string;
  visitor: string;
  doors: DoorRef[];
  decided?: DoorRef;
  answer: { status: number; location?: string; authenticate?: string; say?: string };
  steps: { about: string; text: string }[];
}

export interface Finding {
  severity: "error" | "warning";
  rule: string;
  message: string;
  file: string;
  line: number;
  column: number;
  length?: number;
}

export interface Status {
  version: string;
  site: string;
  started: string;
  policy: string;
  policyVersion: number;
  doors: number;
  findings: Finding[];
}

export interface Relations {
  wider: Door[];
  narrower: Door[];
  crossing: { door: Door; example: string }[];
}

export interface Version {
  id: number;
  at: string;
  by: string;
  comment: string;
  text?: string;
}

export interface Change {
  kind: "added" | "removed" | "changed";
  door: string;
  before?: string;
  after?: string;
  line: number;
}

export interface Difference {
  effect: "opened" | "closed" | "other";
  witness: { method: string; host: string; path: string; visitor: string };
  before: string;
  after: string;
}

export interface Guarantee {
  line: number;
  path: string;
  says: string;
  because?: string;
  state: "holds" | "broken" | "unproven";
  message?: string;
  witness?: { method: string; host: string; path: string; visitor: string; outcome?: string };
}

export interface MatrixRow {
  kind: "region" | "address";
  label: string;
  method: string;
  host: string;
  path: string;
  doors: DoorRef[];
  cells: { outcome: Outcome; detail: string }[];
}

export interface Matrix {
  site: string;
  visitors: string[];
  rows: MatrixRow[];
  more?: boolean;
}

export interface Checked {
  ok: boolean;
  findings: Finding[];
  changes: Change[];
  guarantees: Guarantee[];
  compared: { differences: Difference[] | null; unproven?: string };
}

export interface Grant {
  role: string;
  from: string;
  until: string | null;
  by: string;
}

export interface Person {
  name: string;
  email?: string;
  notes?: string;
  disabled: boolean;
  noPassword?: boolean;
  roles: string[];
  grants: Grant[];
  madeAt: string;
  madeBy: string;
  lastSignIn: string | null;
}

export interface PeopleQuery {
  search: string;
  role: string;
  state: string;
  sort: string;
  down: boolean;
  offset: number;
}

export interface Session {
  handle: string;
  account: string;
  madeAt: string;
  seenAt: string;
  provedAt: string;
  remembered: boolean;
  network: string;
  agent: string;
}

export interface Event {
  id: number;
  at: string;
  kind: string;
  account?: string;
  actor?: string;
  network?: string;
  door?: string;
  place?: string;
  detail?: string;
  reference?: string;
}

export interface Today {
  hours: { at: string; outcomes: Partial<Record<Outcome, number>> }[];
  doors: { door: string; outcomes: Partial<Record<Outcome, number>> }[];
  refusals: Event[];
  sessions: number;
  people: number;
  attention: string[];
  doorways: number;
  guarantees: number;
}

export interface Strength {
  bits: number;
  word: "refused" | "weak" | "fair" | "good" | "strong";
  advice?: string;
}

export interface RingEntry {
  name: string;
  note?: string;
  disabled: boolean;
  kind: string;
  weak: boolean;
  madeAt: string;
  madeBy: string;
  usedAt: string | null;
  until: string | null;
  oldUntil: string | null;
}

export interface Keyring {
  name: string;
  realm: string;
  gone?: boolean;
  entries: RingEntry[];
}

export interface Upstream {
  address: string;
  answered: string | null;
  failed: string | null;
  why?: string;
  inARow: number;
}

export interface ImportLine {
  line: number;
  name: string;
  action: "add" | "change" | "same" | "error";
  detail?: string;
}

const root = new URL("../api/v1/", document.baseURI);

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
async function call<T>(method: string, path: string, body?: unknown): Promise<T> {
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

async function send<T>(method: string, path: string, body?: unknown): Promise<T> {
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
  return answer.status === 204 ? (undefined as T) : answer.json();
}

// The addresses of the files of all accounts.
export const exported = { CSV: new URL("people.csv", root).href, JSON: new URL("people.json", root).href };

const at = (name: string) => `people/${encodeURIComponent(name)}`;

const entryAt = (ring: string, name: string) => `keyrings/${encodeURIComponent(ring)}/entries/${encodeURIComponent(name)}`;

export const api = {
  doors: () => call<Doors>("GET", "doors"),
  status: () => call<Status>("GET", "status"),
  relations: (id: number) => call<Relations>("GET", `doors/${id}/relations`),
  policy: () => call<Version>("GET", "policy"),
  checkPolicy: (text: string) => call<Checked>("POST", "policy/check", { text }),
  applyPolicy: (draft: { text: string; comment: string; base: number; overEdit: boolean }) =>
    call<{ version: Version; changes: Change[] }>("POST", "policy", draft),
  matrix: (q: { files: boolean; as: string[] }) => call<Matrix>("POST", "matrix", q),
  versions: () => call<Version[]>("GET", "policy/versions"),
  version: (id: number) => call<Version>("GET", `policy/versions/${id}`),
  rollback: (id: number, overEdit: boolean) => call<{ version: Version }>("POST", `policy/versions/${id}/rollback`, { overEdit }),
  today: () => call<Today>("GET", "today"),
  people: (q: PeopleQuery) =>
    call<{ people: Person[]; total: number }>(
      "GET",
      "people?" + new URLSearchParams({ search: q.search, role: q.role, state: q.state, sort: q.sort, down: String(q.down), offset: String(q.offset), limit: "50" }),
    ),
  person: (name: string) => call<Person>("GET", at(name)),
  addPerson: (p: { name: string; email?: string; notes?: string; password?: string; roles: string[] }) => call<Person>("POST", "people", p),
  editPerson: (name: string, to: { name?: string; email?: string; notes?: string }) => call<Person>("PATCH", at(name), to),
  removePerson: (name: string) => call<void>("DELETE", at(name)),
  setPassword: (name: string, password: string) => call<void>("PUT", at(name) + "/password", { password }),
  setDisabled: (name: string, disabled: boolean) => call<void>("PUT", at(name) + "/disabled", disabled),
  link: (name: string) => call<{ path: string; until: string }>("POST", at(name) + "/link"),
  endSessionsOf: (name: string) => call<{ ended: number }>("DELETE", at(name) + "/sessions"),
  grant: (name: string, g: { role: string; from?: string; until?: string }) => call<void>("POST", at(name) + "/grants", g),
  revoke: (name: string, role: string) => call<void>("DELETE", `${at(name)}/grants/${encodeURIComponent(role)}`),
  importPeople: (file: string, dry: boolean) => call<{ done: boolean; results: ImportLine[] }>("POST", "people/import", { file, dry }).then((i) => i.results),
  sessions: (q: { account?: string; search?: string; offset: number }) =>
    call<{ sessions: Session[]; total: number }>("GET", "sessions?" + new URLSearchParams({ account: q.account ?? "", search: q.search ?? "", offset: String(q.offset), limit: "50" })),
  endSession: (handle: string) => call<void>("DELETE", `sessions/${encodeURIComponent(handle)}`),
  keyrings: () => call<Keyring[]>("GET", "keyrings"),
  addEntry: (ring: string, e: { name: string; password: string; note: string; until?: string }) => call<RingEntry>("POST", `keyrings/${encodeURIComponent(ring)}/entries`, e),
  setEntryPassword: (ring: string, name: string, password: string, grace: number) => call<void>("PUT", entryAt(ring, name) + "/password", { password, grace }),
  setEntryDisabled: (ring: string, name: string, disabled: boolean) => call<void>("PUT", entryAt(ring, name) + "/disabled", disabled),
  removeEntry: (ring: string, name: string) => call<void>("DELETE", entryAt(ring, name)),
  importEntries: (ring: string, file: string, dry: boolean) => call<ImportLine[]>("POST", `keyrings/${encodeURIComponent(ring)}/import`, { file, dry }),
  exportEntries: (ring: string) => call<{ file: string; left: ImportLine[] }>("GET", `keyrings/${encodeURIComponent(ring)}/export`),
  upstreams: () => call<Upstream[]>("GET", "upstreams"),
  activity: (q: Record<string, string>) => call<Event[]>("GET", "activity?" + new URLSearchParams(q)),
  estimate: (password: string, name: string) => call<Strength>("POST", "passwords/estimate", { password, name }),
  generate: (words: number) => call<{ password: string }>("POST", "passwords/generate", { words }),
  explain: (q: { method: string; url: string; as: string; client: string }) =>
    call<Explanation>("GET", "explain?" + new URLSearchParams(q)),
};

export async function me(): Promise<{ signedIn: boolean; name: string; roles: string[] }> {
  const answer = await fetch(new URL("../me", document.baseURI));
  return answer.json();
}

export const styleNonce = document.querySelector<HTMLMetaElement>('meta[name="style-nonce"]')?.content ?? "";

export const ownPages = new URL("../", document.baseURI).pathname;
