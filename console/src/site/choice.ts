import type { Door, Decider, Edit, Exception, Phrase, Spot, Terms } from "../schema";

// What is chosen in the tree or in the list of doors: some places, and what is said of them now.
export interface Target {
  title: string;
  page: string; // one page of it
  directory: boolean;
  pattern?: string; // of a door, if it is fixed
  own: boolean; // a door is written for it; otherwise it is as something around it says
  says: { name: string; line: number; path?: string; host?: string; methods?: string[]; sentence: Phrase[]; terms?: Terms };
  worry?: string;
}

// A path as it can stand in a policy: a few characters can only be written as *, which fits others too.
export const writable = (path: string) => path.replace(/[*%#?\\]+/g, "*");

export const patternOf = (path: string, below: boolean) => (!below ? writable(path) : path === "/" ? "/**" : writable(path) + "/**");

export function targetOfSpot(spot: Spot, decider: Decider): Target {
  const own = !!decider.path && [spot.path, patternOf(spot.path, true)].includes(decider.path);
  return {
    title: spot.path,
    page: spot.path,
    directory: spot.directory || (own && decider.path!.endsWith("/**")),
    own,
    says: decider,
    worry: spot.worry,
  };
}

export function targetOfDoor(door: Door): Target {
  const place = door.path.replace(/\/\*\*$/, "") || "/";
  const plain = !place.includes("*");
  return {
    title: plain ? place : door.path,
    page: plain ? place : "",
    directory: plain && door.path.endsWith("/**"),
    pattern: plain ? undefined : door.path,
    own: true,
    says: { ...door, name: `the door in line ${door.line}` },
  };
}

// Who may go to some places, as it is chosen.
export interface Choice {
  below: boolean; // the place and everything below it, or this page alone
  host: string;
  methods: string[];
  terms?: Terms; // missing while it says more than can be chosen one by one
  newRole: string; // the name of a role that is to be made
  newRing: { name: string; realm: string }; // a keyring that is to be made
  newShared: { name: string; title: string }; // a shared password that is to be made
  newPass: { name: string; title: string }; // a kind of pass that is to be made
  include: string[]; // doors below that are to go, by their labels
}

export const make = "\0new"; // in the place of a name: one that is to be made

export const begin = (t: Target): Choice => ({
  below: t.own ? !!t.says.path?.endsWith("/**") : t.directory,
  host: t.own ? (t.says.host ?? "") : "",
  methods: t.own ? (t.says.methods ?? []) : [],
  terms: t.says.terms,
  newRole: "",
  newRing: { name: "", realm: "" },
  newShared: { name: "", title: "" },
  newPass: { name: "", title: "" },
  include: [],
});

export const labelOf = (e: Exception) => `${(e.methods ?? []).join(", ")} ${e.host ?? ""}${e.path}`.trim();

// The terms with the names of what is to be made; undefined while something is missing.
function settledTerms(c: Choice): Terms | undefined {
  const t = c.terms;
  if (!t) return undefined;
  const made = { role: c.newRole, keyring: c.newRing.name, shared: c.newShared.name, pass: c.newPass.name }[t.who as string] ?? "";
  const names = t.names?.map((n) => (n === make ? made.trim() : n)).filter(Boolean);
  const named = t.who !== "public" && t.who !== "signed-in" && t.who !== "nobody";
  if (named && !names?.length) return undefined;
  return { ...t, names: named ? names : undefined };
}

// The edits of the policy that a choice means; none while something is missing, or nothing is chosen.
export function editsOf(t: Target, c: Choice, exceptions: Exception[]): Edit[] {
  const terms = settledTerms(c);
  const was = begin(t);
  const same = (a: unknown, b: unknown) => JSON.stringify(a) === JSON.stringify(b);
  if (!terms || (same(c, was) && c.include.length === 0)) return [];
  const edits: Edit[] = [];
  if (terms.who === "role" && c.terms!.names!.includes(make)) edits.push({ kind: "role", name: c.newRole.trim() });
  if (terms.who === "keyring" && c.terms!.names!.includes(make))
    edits.push({ kind: "keyring", name: c.newRing.name.trim(), realm: c.newRing.realm.trim() || undefined });
  if (terms.who === "shared" && c.terms!.names!.includes(make))
    edits.push({ kind: "shared", name: c.newShared.name.trim(), title: c.newShared.title.trim() || undefined });
  if (terms.who === "pass" && c.terms!.names!.includes(make))
    edits.push({ kind: "pass", name: c.newPass.name.trim(), title: c.newPass.title.trim() || undefined });
  for (const e of exceptions)
    if (c.include.includes(labelOf(e))) edits.push({ kind: "remove", path: e.path, host: e.host, methods: e.methods });
  edits.push({ kind: "door", path: pathOf(t, c), host: c.host || undefined, methods: c.methods.length ? c.methods : undefined, terms });
  return edits;
}

// The path of the door that is to say it: as it is written already, if it is.
export const pathOf = (t: Target, c: Choice) =>
  t.pattern ?? (t.own && t.says.path?.endsWith("/**") === c.below ? t.says.path! : patternOf(t.title, c.below));

// What is said of a place that something around it decides: the same, of this place.
export function inherited(t: Target): Phrase[] {
  if (t.own) return t.says.sentence;
  const where =
    t.title === "/" ? (t.directory ? "the whole site" : "the home page") : t.title + (t.directory ? "/ and everything below" : "");
  return t.says.sentence.map((p) => (p.about === "where" ? { ...p, text: where } : p));
}

// What letting in some people, and nobody else, is called, and who they are.
export const admitted: Record<NonNullable<Choice["terms"]>["who"], { act: string; people: string }> = {
  public: { act: "Open {where} to everyone", people: "Visitors" },
  "signed-in": { act: "Require sign-in for {where}", people: "People who are signed in" },
  role: { act: "Require a role for {where}", people: "People with this role" },
  user: { act: "Allow only these people for {where}", people: "These people" },
  keyring: { act: "Require a name and password for {where}", people: "People with a name and password from this keyring" },
  shared: { act: "Require a shared password for {where}", people: "People who know this shared password" },
  pass: { act: "Require a pass for {where}", people: "People with a pass of this kind" },
  nobody: { act: "Block {where} for everyone", people: "Nobody" },
};
