// Made of service/api/openapi.yaml by console/types; change that, not this.

export interface AcceptFinding {
  key: string;
  reason: string;
  until?: string;
}

export interface AccessKey {
  handle: string;
  account: string;
  name: string;
  roles: string[];
  allRoles: boolean;
  networks: string[];
  madeAt: string;
  madeBy: string;
  until?: string;
  ended: boolean;
  usedAt?: string;
  usedFrom?: string;
}

export interface AccessKeys {
  keys: AccessKey[];
  total: number;
}

export interface Address {
  method: string;
  host?: string;
  /** as it would be sent */
  path: string;
}

export interface AnswerShown {
  status: number;
  location?: string;
  authenticate?: string;
  say?: string;
  /** the page of the application, which is public */
  shell?: boolean;
}

export interface Application {
  name: string;
  email: string;
  /** unproven: the address is to be proven; waiting: for a steward */
  state: "unproven" | "waiting" | "declined";
  madeAt: string;
  /** when it is forgotten */
  until: string;
}

export interface Applied {
  version: Version;
  changes: Change[];
  compared: Compared;
}

export interface AskedPlace {
  /** as in a link, with a query if it has one */
  path: string;
  /** GET unless given */
  method?: string;
}

export interface AskedPlaces {
  /** at most 500 */
  places: AskedPlace[];
}

export interface Cell {
  outcome: "admit" | "challenge" | "refuse" | "hide" | "reject";
  /** the outcome with what is asked for, or said instead */
  detail: string;
}

export interface Change {
  /** "added", "removed" or "changed" */
  kind: "added" | "removed" | "changed";
  /** the places: methods, path, host */
  door: string;
  before?: string;
  after?: string;
  /** in the new version; of a removed door, in the old one */
  line: number;
}

export interface Checked {
  ok: boolean;
  findings: Finding[];
  changes: Change[];
  compared: Compared;
  /** The draft's guarantees and whether they hold; none if the draft cannot be read */
  guarantees: Guarantee[];
}

export interface Compared {
  differences: Difference[] | null;
  unproven?: string;
}

export interface ContrastFault {
  scheme: "light" | "dark";
  what: string;
  /** text needs 4.5 */
  ratio: number;
}

export interface Crossing {
  door: Door;
  example: string;
}

export interface Decider {
  name: string;
  /** 0 for none in the file */
  line: number;
  /** as it is written; missing for the rule for unlisted places */
  path?: string;
  host?: string;
  methods?: string[];
  sentence: Phrase[];
  terms?: Terms;
}

export interface Declining {
  /** that they are told */
  text?: string;
}

export interface Difference {
  /** "opened": somebody gets in now; "closed": gets in no more; "other" */
  effect: "opened" | "closed" | "other";
  witness: Witness;
  /** the outcome, and where to if that matters */
  before: string;
  after: string;
  beforeDoors: DoorRef[];
  afterDoors: DoorRef[];
}

export interface Door {
  /** its index in file order */
  id: number;
  line: number;
  /** line of the entry; doors written as one entry share it */
  entry: number;
  /** its methods, host and path, as doors are named everywhere; of a check its name */
  label: string;
  /** the name of a check */
  check?: string;
  path: string;
  host?: string;
  /** empty for any */
  methods: string[];
  admit: string;
  /** an account is asked for with HTTP Basic instead of the form */
  basic: boolean;
  /** what is said otherwise */
  anonymous?: string;
  refused?: string;
  /** the door in words for everybody */
  sentence: Phrase[];
  terms?: Terms;
}

export interface DoorHits {
  door: string;
  outcomes: Record<string, number>;
}

export interface DoorRef {
  /** 0 for what is built in */
  line: number;
  path: string;
  admit: string;
}

export interface Doors {
  site: string;
  prefix: string;
  file: string;
  roles: string[];
  unlisted: "public" | "signed-in" | "refuse" | "hide";
  doors: Door[];
  /** what a program asks in its own handlers; each must admit too */
  checks: Door[];
  builtIn: Door[];
  sources: SourceRef[];
}

export interface Draft {
  text?: string;
  comment?: string;
  /** the version that it was made from; 0 for whichever */
  base?: number;
  /** apply it only if it opens nothing to anybody */
  noOpening?: boolean;
  /** also over an edit of the file that is not in force */
  overEdit?: boolean;
}

export interface Edit {
  kind: "door" | "remove" | "role" | "keyring" | "shared" | "pass" | "unlisted" | "landing" | "guarantee" | "remove-guarantee";
  path?: string;
  host?: string;
  methods?: string[];
  terms?: Terms;
  /** of a door, in place of terms, and of a guarantee: as in a policy, or for short; of unlisted: its word */
  admit?: string;
  otherwise?: string;
  /** of a role, a keyring, a shared password or a kind of pass that is declared */
  name?: string;
  /** of a shared password or a kind of pass: what it opens, for people */
  title?: string;
  /** likewise: such as 7d, or forever */
  lasts?: string;
  /** of a keyring */
  realm?: string;
  /** of a landing */
  on?: "sign-in" | "sign-out" | "join" | "password-change";
  /** of a landing: who is sent there */
  role?: string;
  /** of a landing: the one account that is sent there; with neither, everybody else is */
  user?: string;
  /** of a landing: the page; none takes the line out */
  go?: string;
  /** of a guarantee */
  promise?: "only" | "always" | "never";
  /** of a guarantee */
  because?: string;
}

export interface Edited {
  /** the version that was edited */
  base: number;
  text: string;
  changed: boolean;
  /** the difference, in the unified format */
  lines?: string;
  compared: Compared;
  findings: Finding[];
  guarantees: Guarantee[];
  /** of the door that was set */
  sentence?: Phrase[];
  /** doors within it, which decide before it */
  exceptions?: Exception[];
  /** what is not wrong, and should be known */
  remarks?: string[];
}

export interface Edits {
  edits: Edit[];
}

export interface EntriesExport {
  file: string;
  left: ImportedLine[];
}

export interface EntriesImport {
  file: string;
  dry?: boolean;
}

export interface Entry {
  name: string;
  note?: string;
  disabled: boolean;
  /** of the hash */
  kind: string;
  weak: boolean;
  madeAt: string;
  madeBy: string;
  usedAt: string | null;
  until: string | null;
  /** until when the password before counts too */
  oldUntil: string | null;
}

export interface EntryEdit {
  note?: string;
  until?: string;
  /** it has no end any more */
  endless?: boolean;
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

export interface EventSecret {
  id: number;
  madeAt: string;
  madeBy: string;
  until?: string;
}

export interface Exception {
  path: string;
  host?: string;
  methods?: string[];
  line: number;
  sentence: string;
}

export interface Explanation {
  outcome: "admit" | "challenge" | "refuse" | "hide" | "reject";
  /** canonical; "" if the request was rejected */
  path: string;
  visitor: string;
  /** those that count, in file order; none if no door covers the place */
  doors: DoorRef[];
  decided?: DoorRef;
  /** the door that decided, in words for everybody */
  says?: string;
  answer: AnswerShown;
  steps: Step[];
  /** what has changed since, where a version was named */
  since?: string[];
}

export interface Exported {
  name: string;
  email?: string;
  notes?: string;
  disabled: boolean;
  roles?: ({ from: string; role: string; until?: string })[];
}

export interface FactorReset {
  /** When it is taken away; nothing if that was done at once */
  due?: string;
}

export interface Finding {
  severity: "error" | "warning";
  /** the name under which docs/findings.md explains it */
  rule: string;
  message: string;
  file: string;
  /** counted from 1 */
  line: number;
  /** in characters, counted from 1 */
  column: number;
  length?: number;
  witness?: Witness;
}

export interface Generate {
  /** 4 to 12 */
  words?: number;
  /** 10 to 64 */
  length?: number;
  /** without characters that look like others, in groups */
  readable?: boolean;
}

export interface Generated {
  password: string;
  strength: Strength;
}

export interface Grant {
  role: string;
  from: string;
  until: string | null;
  by: string;
}

export interface Group {
  effect: "closed" | "opened" | "depends";
  door: DoorRef;
  method: string;
  host: string;
  path: string;
  requests: number;
  people: number;
  first: string | null;
  last: string | null;
  before: string;
  after: string;
  visitors: string[];
}

export interface Guarantee {
  line: number;
  path: string;
  /** in the policy's words */
  says: string;
  because?: string;
  /** "holds", "broken", "unproven" */
  state: "holds" | "broken" | "unproven";
  /** why it does not hold, or could not be proven */
  message?: string;
  witness?: Witness;
}

export interface HeldElsewhere {
  provider: string;
  /** An address or a name there */
  knownAs: string;
  madeAt: string;
  usedAt?: string;
}

export interface HeldFactors {
  /** Accounts at providers that open this one */
  elsewhere: HeldElsewhere[];
  passkeys: HeldPasskey[];
  /** Since when an app for codes is set up */
  code?: string;
  /** Codes that are kept and were not used */
  kept: number;
  /** That are not asked for a while */
  browsers: number;
  reset?: string;
  resetBy?: string;
  /** What the policy wants and is not set up: passkey, code or two */
  wanted?: string;
}

export interface HeldPasskey {
  name: string;
  /** That it is for */
  host: string;
  madeAt: string;
  usedAt?: string;
}

export interface Hour {
  /** its beginning */
  at: string;
  outcomes: Record<string, number>;
}

export interface Import {
  dry?: boolean;
  /** CSV or JSON */
  file: string;
}

export interface Imported {
  done: boolean;
  results: ImportedLine[];
}

export interface ImportedLine {
  line: number;
  name: string;
  action: "add" | "change" | "same" | "error";
  detail?: string;
}

export interface ImportedPasses {
  lines: ImportedLine[];
  issued: IssuedPass[];
}

export interface ImportedPayments {
  lines: ImportedLine[];
}

export interface Invitation {
  email: string;
  roles: string[];
  /** when the roles end */
  ends?: string;
  madeAt: string;
  madeBy: string;
  /** when it ends itself */
  until: string;
}

export interface Invited {
  /** its link, below the site's address, unless it was sent */
  path?: string;
  until: string;
}

export interface IssuedPass {
  id: string;
  kind: string;
  reference: string;
  recipient: string;
  until: string | null;
  link: string;
  /** of HTTP Basic */
  user: string;
  password: string;
  /** they are on their way to the recipient */
  mailed: boolean;
  /** what to send to the recipient by another way */
  letter?: Letter;
}

export interface Joining {
  /** as the policy says */
  by: "nobody" | "invitation" | "approval" | "anybody";
  applications: Application[];
  invitations: Invitation[];
}

export interface Keyring {
  name: string;
  realm: string;
  /** the policy has it no more */
  gone?: boolean;
  entries: Entry[];
}

export interface Letter {
  language: string;
  subject: string;
  text: string;
}

export interface Link {
  /** below the site's address */
  path: string;
  until: string;
}

export interface Looks {
  /** that can be looked at */
  pages: string[];
  light: Palette;
  dark: Palette;
  faults?: ContrastFault[];
}

export interface MadeAccessKey {
  handle: string;
  account: string;
  name: string;
  roles: string[];
  allRoles: boolean;
  networks: string[];
  madeAt: string;
  madeBy: string;
  until?: string;
  ended: boolean;
  usedAt?: string;
  usedFrom?: string;
  /** Not shown again */
  token: string;
}

export interface MadeSecret {
  secret: string;
}

export interface MadeTarget {
  id: number;
  secret: string;
}

export interface MarkedRow {
  kind: "region" | "address";
  label: string;
  method: string;
  host: string;
  path: string;
  doors: DoorRef[];
  /** a letter for each visitor: a for admit, c challenge, r refuse, h hide, x reject */
  marks: string;
}

export interface Marks {
  /** in the notation for visitors */
  visitors: string[];
  rows: MarkedRow[];
  /** of all rows */
  total: number;
  /** there are more files than are counted */
  more?: boolean;
}

export interface MarksQuery {
  files?: boolean;
  /** visitors beside the usual ones */
  as?: string[];
  /** the first row, counted from 0 */
  from?: number;
  /** at most 20,000 */
  limit?: number;
}

export interface Matrix {
  /** in the notation for visitors */
  visitors: string[];
  rows: Row[];
  site: string;
  /** there are more files than are shown */
  more?: boolean;
}

export interface MatrixQuery {
  files?: boolean;
  addresses?: Address[];
  /** visitors beside the usual ones */
  as?: string[];
}

export interface May {
  places: PlaceToGo[];
}

export interface Me {
  signedIn: boolean;
  /** empty for nobody */
  name: string;
  /** with those that they include */
  roles: string[];
  /** when the password was typed last */
  proven?: string;
  /** when the session ends, whatever happens */
  ends?: string;
  /** seconds without a request after which it ends */
  idle?: number;
  /** the shared passwords that are unlocked */
  unlocked: string[];
  /** the kinds of pass that are held */
  passes: string[];
  ways: Ways;
}

export interface Member {
  account: string;
  email?: string;
  role: string;
  since: string;
  until?: string;
  /** who or what gave the role */
  by: string;
  /** the latest for which it was given */
  order?: string;
  /** how the account was made */
  joined: string;
  disabled?: boolean;
}

export interface Members {
  members: Member[];
  /** of a search at most 5000 */
  total: number;
}

export interface MembersWeek {
  begins: string;
  counts: Record<string, number>;
}

export interface Message {
  id: number;
  kind: string;
  to: string;
  account?: string;
  language: string;
  state: "waiting" | "sent" | "failed" | "dropped";
  madeAt: string;
  /** when sending it makes no sense any more */
  until: string;
  tries: number;
  /** when it is tried next, if it is waiting */
  nextAt?: string;
  /** the last one, in the words of the mail server */
  problem?: string;
  endedAt?: string;
  /** which is told only to whom it is sent */
  hasLink?: boolean;
  /** of one asked for by its number, until it is sent or dropped */
  subject?: string;
  /** likewise; without the link */
  text?: string;
}

export interface Messages {
  messages: Message[];
  waiting: number;
  sent: number;
  failed: number;
  dropped: number;
  /** that they are handed to; none if there is none */
  server?: string;
}

export interface NewAccessKey {
  account: string;
  name: string;
  /** That it carries; without it all that the account has */
  roles?: string[];
  /** It carries none */
  noRoles?: boolean;
  /** From which it counts; without it from all */
  networks?: string[];
  until?: string;
}

export interface NewEntry {
  name: string;
  password: string;
  note?: string;
  until?: string;
}

export interface NewEntryPassword {
  password: string;
  grace?: number;
}

export interface NewEventSecret {
  /** that the shop has made */
  secret?: string;
  /** seconds for which those before count on; without, they do as before */
  grace?: number;
}

export interface NewGrant {
  role: string;
  from?: string;
  until?: string;
}

export interface NewInvitation {
  email: string;
  roles?: string[];
  /** when the roles end */
  ends?: string;
  /** how long it lasts itself, in seconds; 14 days if it is left away */
  lasts?: number;
  /** of the mail */
  language?: "en" | "de";
  /** send it; else its link is answered, once */
  mail?: boolean;
}

export interface NewPass {
  kind: string;
  to: string;
  name?: string;
  reference?: string;
  note?: string;
  until?: string;
  downloads?: number;
  paths?: string[];
  language?: string;
  noMail?: boolean;
}

export interface NewPassword {
  password: string;
}

export interface NewPatrol {
  visitors: string[];
}

export interface NewPerson {
  name: string;
  email?: string;
  notes?: string;
  password?: string;
  roles?: string[];
  /** when the roles end */
  until?: string;
  /** take the name though it was another's until recently, or looks like another */
  anyway?: boolean;
}

export interface NewTarget {
  url: string;
  kinds: string[];
}

export interface NewWalk {
  as: string;
  changes?: boolean;
}

export interface Palette {
  /** as #rrggbb */
  accent: string;
  paper: string;
  ink: string;
}

export interface Pass {
  /** also its name for HTTP Basic */
  id: string;
  kind: string;
  reference: string;
  /** the address */
  recipient: string;
  name?: string;
  note?: string;
  /** to which it is narrowed */
  paths?: string[];
  /** "waiting", "open", "used-up", "ended", "paused" or "revoked" */
  state: "waiting" | "open" | "used-up" | "ended" | "paused" | "revoked";
  /** it is paused: "steward" or "spread" */
  why?: "steward" | "spread";
  madeAt: string;
  madeBy: string;
  /** none for no end, or if it counts from the first use */
  until: string | null;
  /** from the first use */
  lasts?: string;
  firstUsed: string | null;
  lastUsed: string | null;
  downloads: PassDownloads;
  /** when it was last used from more networks than its kind allows */
  spreadAt?: string;
  /** as long as its link and password before count too */
  oldUntil?: string;
  /** from which it was used within a day; of one asked for by its name */
  networks?: number;
  /** likewise */
  story?: PassEvent[];
}

export interface PassDownloads {
  used: number;
  /** 0 for any number */
  allowed: number;
}

export interface PassEvent {
  at: string;
  what: string;
  actor?: string;
  detail?: string;
}

export interface PassKind {
  name: string;
  title: string;
  /** "14d" or "forever" */
  lasts: string;
  /** "issue" or "first-use" */
  countsFrom: "issue" | "first-use";
  /** 0 for any number */
  downloads: number;
  /** from which one may be used within a day; 0 for any number */
  networks: number;
  /** what is done with one that is used from more: "note" or "pause" */
  spread: "note" | "pause";
  /** where one leads */
  place: string;
  gone?: boolean;
  /** how many are in each state */
  counts: Record<string, number>;
}

export interface Passes {
  passes: Pass[];
  /** there are others after the last */
  more: boolean;
}

export interface PassesImport {
  kind: string;
  file: string;
  dry?: boolean;
  until?: string;
  downloads?: number;
  language?: string;
  noMail?: boolean;
}

export interface Patrol {
  id: string;
  cookie: string;
  secureCookie: string;
  tokens: string[];
  mark: string;
  until: string;
}

export interface PatrolAccepted {
  reason: string;
  by: string;
  at: string;
  until?: string;
}

export interface PatrolFinding {
  key: string;
  rule: string;
  about: string;
  severity: string;
  path: string;
  message: string;
  as: string;
  door?: string;
  requests: PatrolRequest[];
  accepted?: PatrolAccepted;
}

export interface PatrolLeft {
  path: string;
  reason: string;
}

export interface PatrolMade {
  id: number;
  began: string;
  ended: string;
  by?: string;
  problem?: string;
  visited: number;
  found: number;
  fresh: number;
}

export interface PatrolRequest {
  as: string;
  method: string;
  url: string;
  with?: string;
  status: number;
  location?: string;
  fields?: string;
  begins?: string;
}

export interface PatrolResult {
  id: number;
  began: string;
  ended: string;
  by?: string;
  problem?: string;
  visited: number;
  found: number;
  fresh: number;
  visitors: string[];
  requests: number;
  findings: PatrolFinding[];
  leftOut: PatrolLeft[];
}

export interface PatrolRunning {
  began: string;
  by?: string;
  done: number;
  known: number;
}

export interface Patrols {
  every?: string;
  running?: PatrolRunning;
  patrols: PatrolMade[];
}

export interface PaymentsImport {
  /** CSV with a head line: order, address, item, name, account, type, number, until, at, language */
  file: string;
  dryRun?: boolean;
}

export interface Pending {
  /** when that was first seen */
  since: string;
  why: string;
  /** it does not come into force by itself in a moment */
  stuck: boolean;
}

export interface People {
  people: Person[];
  /** how many the query means */
  total: number;
}

export interface Person {
  name: string;
  email?: string;
  /** when it is deleted, since its owner wants that */
  leavesAt?: string;
  notes?: string;
  disabled: boolean;
  /** none is set yet; a link is needed to set one */
  noPassword?: boolean;
  /** those that hold now */
  roles: string[];
  grants: Grant[];
  madeAt: string;
  madeBy: string;
  lastSignIn: string | null;
}

export interface PersonEdit {
  name?: string;
  email?: string;
  notes?: string;
  /** take the name though it was another's until recently, or looks like another */
  anyway?: boolean;
}

export interface Phrase {
  /** what of the door it says: who, do, where, also, anonymous, refused; missing for the words between */
  about?: string;
  text: string;
}

export interface PlaceToGo {
  path: string;
  method: string;
  /** they are let in */
  may: boolean;
  /** missing for what is not there for them */
  outcome: "admit" | "challenge" | "refuse" | "reject" | "missing";
  /** what is missing, as a program is told it */
  code?: string;
  /** of the shared password, or the kind of pass */
  name?: string;
  /** where to go instead */
  go?: string;
}

export interface Problem {
  type: string;
  title: string;
  status: number;
  detail: string;
  /** what is the matter, for programs; "proof-needed": the password must be typed again first */
  code?: string;
  /** seconds before it makes sense to try again */
  wait?: number;
  /** the number under which a refusal can be found */
  reference?: string;
  /** of a policy that was not taken */
  findings?: Finding[];
  /** by a policy that was to open nothing */
  opened?: Difference[];
}

export interface Proposal {
  /** a pattern */
  path: string;
  admit: "nobody" | "signed-in" | "public";
  why: string;
}

export interface Recipient {
  /** of the list; 0 if it was not in it */
  line: number;
  address: string;
  name?: string;
  /** why nothing can be sent there */
  wrong?: string;
}

export interface RejectFinding {
  key: string;
}

export interface Relations {
  /** those around it: it decides before them */
  wider: Door[];
  /** those inside it: they decide before it */
  narrower: Door[];
  /** those that cross it: where both cover a place, both must admit */
  crossing: Crossing[];
}

export interface RenewPass {
  until?: string;
  /** so many more */
  downloads?: number;
}

export interface Replayed {
  kept?: string;
  whole: boolean;
  requests: number;
  changed: number;
  people: number;
  first?: string;
  last?: string;
  groups: Group[];
  more: number;
}

export interface Reply {
  /** the page that they are led to */
  go?: string;
  /** the text that they are told */
  say?: string;
  /** as if nothing were there */
  hide?: boolean;
}

export interface ResendPass {
  /** seconds for which those before count too */
  grace?: number;
  noMail?: boolean;
}

export interface RotatePasses {
  kind: string;
  /** seconds for which those before count too */
  grace?: number;
  /** only those whose credentials were made before: when this began */
  before: string;
}

export interface RotatedPasses {
  rotated: number;
}

export interface Row {
  /** "region", "address" */
  kind: "region" | "address";
  /** the region in the policy's words, or the address */
  label: string;
  method: string;
  host: string;
  /** of a region: its shortest place */
  path: string;
  doors: DoorRef[];
  /** one for each visitor */
  cells: Cell[];
  /** of an address that cannot be read */
  problem?: string;
}

export interface Session {
  handle: string;
  account: string;
  madeAt: string;
  seenAt: string;
  /** when its owner last proved to be that */
  provedAt: string;
  /** and what they have shown, such as password or password code */
  how: string;
  remembered: boolean;
  network: string;
  agent: string;
}

export interface Sessions {
  sessions: Session[];
  total: number;
}

export interface SetShared {
  password: string;
  /** seconds for which those before count too */
  grace?: number;
  endUnlocks?: boolean;
}

export interface SharedPassword {
  name: string;
  title: string;
  /** how long an unlock lasts: "7d", "forever", or "0" until the browser is closed */
  lasts: string;
  /** the first place that it opens */
  place: string;
  /** the policy has it no more */
  gone?: boolean;
  /** that count now, the newest first; none if it was never set */
  passwords: SharedValid[];
  /** in so many browsers */
  unlocks: number;
}

export interface SharedValid {
  madeAt: string;
  madeBy: string;
  /** none for no end */
  until: string | null;
  usedAt: string | null;
}

export interface ShopEvent {
  id: number;
  source: "shop" | "list";
  /** that its sender gave it */
  number: string;
  /** when it came */
  at: string;
  type: string;
  order: string;
  address?: string;
  name?: string;
  /** as the shop named it */
  account?: string;
  items: ShopItem[];
  until?: string;
  /** as the shop says */
  happened?: string;
  state: "waiting" | "done" | "kept" | "ignored";
  /** why it is kept, or what is to be known of it */
  problem?: string;
  doneAt?: string;
}

export interface ShopEvents {
  events: ShopEvent[];
  waiting: number;
  done: number;
  kept: number;
  ignored: number;
}

export interface ShopItem {
  item: string;
  name?: string;
  number: number;
}

export interface Site {
  /** at which people reach it */
  url: string;
  unlisted: string;
  /** each before what is below it */
  spots: Spot[];
  /** that spots name by their index */
  deciders: Decider[];
  /** there are more files */
  more?: boolean;
  /** places that have a file */
  files: number;
  /** places that stand in the site's sitemap.xml */
  sitemap: number;
  /** places that a server behind has answered for, of late */
  asked: number;
  /** doors that the site may need, and does not have */
  proposals: Proposal[];
}

export interface SourceRef {
  path: string;
  host?: string;
  files?: string;
  proxy?: string;
}

export interface Spot {
  /** canonical */
  path: string;
  directory: boolean;
  /** a door is written for just this place, or for all below it */
  own: boolean;
  /** what a stranger meets there */
  outcome: "admit" | "challenge" | "refuse" | "hide" | "reject";
  /** what the visitor meets there who was asked for */
  theirs?: "admit" | "challenge" | "refuse" | "hide" | "reject";
  /** the index of what decides */
  decider: number;
  /** why a place that a stranger can see should perhaps not be seen */
  worry?: string;
}

export interface Status {
  version: string;
  site: string;
  started: string;
  /** at which people reach the site */
  url: string;
  /** the origin of the console, if it has one of its own */
  console?: string;
  /** the file */
  policy: string;
  /** in force */
  policyVersion: number;
  doors: number;
  /** of the newest version of the file, if it was not taken */
  findings: Finding[];
  pending?: Pending;
}

export interface Step {
  /** address, doors, count, demand, visitor, missing, answer */
  about: string;
  text: string;
}

export interface Strength {
  bits: number;
  word: "refused" | "weak" | "fair" | "good" | "strong";
  /** why it is refused */
  advice?: string;
}

export interface Target {
  id: number;
  url: string;
  kinds: string[];
  madeAt: string;
  madeBy: string;
}

export interface TellShared {
  /** addresses as people type or paste them, or CSV */
  to?: string;
  /** and those of whoever has this role */
  role?: string;
  password: string;
  /** in words of one's own; gaps are {title}, {site}, {name}, {place}, {url} */
  text?: string;
  language?: string;
}

export interface Telling {
  address: string;
  at: string;
  actor: string;
}

export interface Tellings {
  tellings: Telling[];
  total: number;
}

export interface Terms {
  who: "public" | "signed-in" | "nobody" | "role" | "user" | "keyring" | "shared" | "pass";
  /** any one of them */
  names?: string[];
  /** that has to be opened besides */
  keyring?: string;
  /** networks, in one of which the visitor has to be */
  from?: string[];
  /** that has to be shown besides: passkey, code or two; "" for none */
  factor?: string;
  /** how long ago the password was typed at most, such as 10m */
  within?: string;
  /** the browser's own question instead of the sign-in page */
  basic?: boolean;
  /** what that question says; the name of the site if missing */
  realm?: string;
  anonymous?: Reply;
  refused?: Reply;
}

export interface TestMessage {
  to: string;
  language?: string;
}

export interface Today {
  /** 24, the present one last */
  hours: Hour[];
  /** those that refuse most, or hide from most */
  doors: DoorHits[];
  /** those that ask most for a proof, as for signing in */
  asking: DoorHits[];
  refusals: Event[];
  sessions: number;
  people: number;
  attention: string[];
  /** doors in the policy in force */
  doorways: number;
  /** that hold */
  guarantees: number;
}

export interface ToldShared {
  recipients: Recipient[];
  letter?: Letter;
}

export interface Unlock {
  handle: string;
  name: string;
  madeAt: string;
  until: string | null;
  network: string;
  agent: string;
  /** of who was signed in there */
  account?: string;
}

export interface Unlocks {
  unlocks: Unlock[];
  total: number;
}

export interface Upstream {
  address: string;
  /** when it last answered */
  answered: string | null;
  /** when it last failed */
  failed: string | null;
  why?: string;
  /** failures without an answer between */
  inARow: number;
}

export interface Version {
  id: number;
  at: string;
  by: string;
  comment: string;
  text?: string;
}

export interface Walk {
  path: string;
  until: string;
}

export interface Ways {
  signIn?: string;
  signOut?: string;
  account?: string;
  proveAgain?: string;
  unlock?: string;
  join?: string;
  recover?: string;
}

export interface Witness {
  method: string;
  host: string;
  path: string;
  visitor: string;
  outcome?: string;
}
