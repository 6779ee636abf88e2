// Ostiarius for the scripts of a page: who is here, may they go there, and what to do if not.
// It keeps nothing in the browser and believes nothing that is kept there: doors are decided by the service alone.
const base = new URL(".", import.meta.url);
const page = (name, query) => new URL(name + (query ? "?" + new URLSearchParams(query) : ""), base);
const apart = location.origin !== base.origin; // the page is of another origin, which the policy names
const shared = { credentials: "include", cache: "no-store" };

// What went wrong, with the code of docs/front-ends.md; "offline" where there was no answer.
class DoorError extends Error {
  constructor({ code = "failed", status = 0, detail, wait, reference }) {
    super(detail ?? code);
    Object.assign(this, { name: "DoorError", code, status, wait, reference });
  }
}
const knows = (answer) => answer.headers.get("Content-Type")?.startsWith("application/problem+json");
async function call(name, init) {
  let answer;
  try {
    answer = await fetch(page(name), { ...shared, ...init });
  } catch (cause) {
    throw Object.assign(new DoorError({ code: "offline", detail: "There was no answer." }), { cause });
  }
  if (answer.ok || answer.status === 304) return answer;
  throw new DoorError({ status: answer.status, ...(knows(answer) ? await answer.json() : {}) });
}
const json = (body) => ({ method: "POST", headers: { "Content-Type": "application/json", Accept: "application/json" }, body: JSON.stringify(body) });

// Who is here.
let me, tag, asking, turn = 0, used = 0, skew = 0, clock;
const watchers = new Set();
const tabs = globalThis.BroadcastChannel && new BroadcastChannel("door " + base.pathname);

// here resolves to who is here: one question for all who ask, until something changes.
const here = () => (asking ??= ask());

function refresh() {
  return (asking = ask());
}

async function ask() {
  const mine = ++turn;
  used = Date.now();
  try {
    const answer = await call("me", tag ? { headers: { "If-None-Match": tag } } : {});
    const next = answer.status === 304 ? me : await answer.json();
    if (mine !== turn) return await asking; // another question was later, and knows better
    tag = answer.headers.get("ETag") ?? tag;
    skew = Date.parse(answer.headers.get("Date") ?? "") - Date.now() || 0;
    const before = me;
    me = next;
    wind();
    if (before && JSON.stringify(before) !== JSON.stringify(me)) changed();
    return me;
  } catch (error) {
    if (mine === turn) asking = undefined; // asked anew by whoever asks next
    throw error;
  }
}

function changed() {
  told.clear();
  for (const watcher of [...watchers]) watcher(me);
  elements();
}

// watch calls back with who is here whenever that changes, in this tab or another, and returns what ends it.
function watch(watcher) {
  watchers.add(watcher);
  here().catch(() => {});
  return () => watchers.delete(watcher);
}

// The session ends by its clock: then, and not before, it is looked whether another tab has kept it.
function wind() {
  clearTimeout(clock);
  if (!me.signedIn) return;
  const left = Math.min(me.ends ? Date.parse(me.ends) - skew : Infinity, me.idle ? used + me.idle * 1000 : Infinity) - Date.now();
  if (left < Infinity) clock = setTimeout(left > 2e9 ? wind : quietly, Math.min(Math.max(left, 0) + 1000, 2e9));
}
const quietly = () => void refresh().catch(() => {});
tabs && (tabs.onmessage = quietly);
addEventListener("pageshow", (e) => e.persisted && quietly()); // come back to by "Back"
addEventListener("online", quietly);
document.addEventListener("visibilitychange", () => document.visibilityState === "visible" && me?.signedIn && (used + 30_000 < Date.now() || (me.ends && Date.parse(me.ends) - skew < Date.now())) && quietly());

// May they go there.
const told = new Map();
let waiting;

// may resolves to what somebody would get at an address, or at each of several; what is asked at once is one question.
function may(addresses, { method = "GET" } = {}) {
  const one = (address) => {
    const { pathname, search } = new URL(address, location.href);
    const key = method + " " + pathname + search;
    if (!told.has(key)) {
      const answer = new Promise((resolve, reject) => {
        if (!waiting) {
          waiting = [];
          queueMicrotask(flush);
        }
        waiting.push({ path: pathname + search, method, resolve, reject });
      });
      told.set(key, answer);
      answer.catch(() => told.get(key) === answer && told.delete(key));
    }
    return told.get(key);
  };
  return Array.isArray(addresses) ? Promise.all(addresses.map(one)) : one(addresses);
}

async function flush() {
  const all = waiting;
  waiting = undefined;
  used = Date.now();
  for (let i = 0; i < all.length; i += 500) {
    const part = all.slice(i, i + 500);
    try {
      const { places } = await (await call("may", json({ places: part.map(({ path, method }) => ({ path, method })) }))).json();
      part.forEach((asked, n) => asked.resolve(places[n]));
    } catch (error) {
      part.forEach((asked) => asked.reject(error));
    }
  }
}

// lead is a guard for routers: null to go on, or the address where to go instead. Visitors who are refused go to refused.
async function lead(address, { refused = "/" } = {}) {
  const place = await may(address);
  if (place.may || place.outcome === "missing") return null;
  if (!apart || !place.go) return place.go ?? refused;
  const to = new URL(place.go, base);
  if (to.searchParams.has("next")) to.searchParams.set("next", new URL(address, location.href));
  return to.href;
}

// What changes who is here; other tabs are told.
async function send(name, body) {
  if (apart) throw new DoorError({ code: "other-origin", detail: "This changes something, so it is done on the page of the site." });
  const answer = await call(name, json(body));
  const said = answer.status === 204 ? {} : await answer.json();
  tabs?.postMessage("changed");
  told.clear();
  await refresh();
  return said;
}
const signIn = (fields) => send("sign-in", fields);
const signOut = () => (apart ? leave(page("sign-out", { next: location.href })) : send("sign-out", {}));
const join = (fields) => send("join", fields);
const recover = (fields) => send("recover", fields);
const secondFactor = (code) => send("sign-in/second", { code });
const proveAgain = (password) => send("prove-again", { password });
const unlock = (name, password) => send("unlock", { name, password });

// Where somebody goes to prove what a code says is missing.
async function where(code, name, next) {
  const { ways } = await here();
  const to = { "sign-in-needed": ways.signIn, "proof-needed": ways.proveAgain ?? ways.signIn, "factor-needed": ways.proveAgain && ways.proveAgain + "?" + new URLSearchParams({ factor: name ?? "two" }), "unlock-needed": ways.unlock, "pass-needed": ways.unlock }[code];
  return to && new URL(to + (to.includes("?") ? "&" : "?") + new URLSearchParams({ next, ...(name && code !== "factor-needed" && { name }) }), base).href;
}

// How somebody is asked for what is missing: by going to the page, and coming back to where they are; or in a dialogue.
async function byPage(code, name) {
  const to = await where(code, name, (apart ? location.origin : "") + location.pathname + location.search + location.hash);
  return to ? leave(to) : false;
}
function leave(to) {
  location.assign(to);
  return new Promise(() => {}); // the page is being left
}
async function byDialogue(code, name) {
  if (apart || code === "pass-needed") return byPage(code, name); // no frame elsewhere; a pass is asked for where it opens something
  const to = await where(code, name, page("done").pathname);
  if (!to) return false;
  const [dialog, frame, shut] = ["dialog", "iframe", "button"].map((name) => document.createElement(name));
  frame.title = document.title;
  frame.src = to;
  dialog.style.cssText = "box-sizing:border-box;padding:0;border:1px solid #8888;border-radius:.5rem;overflow:hidden;width:min(28rem,94vw);max-width:none;height:min(40rem,90vh);max-height:none;color-scheme:light dark;background:Canvas";
  frame.style.cssText = "border:0;width:100%;height:100%";
  shut.style.cssText = "all:unset;position:absolute;top:.25rem;right:.25rem;width:2.75rem;line-height:2.75rem;text-align:center;font-size:1.5rem;cursor:pointer;color:CanvasText";
  shut.ariaLabel = document.documentElement.lang.startsWith("de") ? "Schließen" : "Close";
  shut.textContent = "×";
  shut.onfocus = shut.onblur = (e) => (shut.style.outline = e.type === "focus" ? "2px solid" : "");
  shut.onclick = () => dialog.close();
  dialog.append(frame, shut);
  document.body.append(dialog);
  return new Promise((resolve) => {
    const end = (done) => {
      removeEventListener("message", listen);
      dialog.remove();
      resolve(done);
    };
    const listen = (e) => e.origin === base.origin && e.source === frame.contentWindow && e.data === "door: done" && end(true);
    addEventListener("message", listen);
    dialog.addEventListener("close", () => end(false));
    dialog.showModal();
  });
}
let how = byPage;
const askBy = (way) => void (how = way);

// knock is fetch that meets a door: what is missing is asked for, and the request is sent once more.
async function knock(input, init) {
  const ours = new URL(input.url ?? input, location.href).origin === base.origin;
  const request = new Request(input, { credentials: ours ? "include" : "same-origin", ...init });
  const again = request.clone();
  used = Date.now();
  const answer = await fetch(request);
  if (answer.status !== 401 || !knows(answer) || !ours) return answer;
  const { code } = await answer.clone().json();
  const who = me?.name;
  const { name } = await may(request.url, { method: request.method }).catch(() => ({}));
  await refresh();
  if (!(await how(code, name))) return answer;
  tabs?.postMessage("changed");
  told.clear();
  await refresh();
  return who && me.name !== who ? answer : fetch(again); // somebody else does not send what this one wrote
}

// Elements with data-door-may, data-door-in and data-door-out, which are shown or hidden as a courtesy.
const marked = "[data-door-may],[data-door-in],[data-door-out]";
const sheet = new CSSStyleSheet();
sheet.replaceSync(marked.replace(/\]/g, "]:not([data-door-known])") + "{display:none!important}");
document.adoptedStyleSheets = [...document.adoptedStyleSheets, sheet];

async function elements() {
  const all = [...document.querySelectorAll(marked)];
  if (all.length === 0) return;
  try {
    const is = await here();
    await Promise.all(
      all.map(async (e) => {
        const { doorMay, doorIn, doorOut } = e.dataset;
        let shown = (doorIn === undefined || is.signedIn) && (doorOut === undefined || !is.signedIn);
        if (shown && doorMay) {
          const [, method, path] = /^(?:([A-Z]+) +)?(.*)$/.exec(doorMay.trim());
          shown = (await may(path, { method })).may;
        }
        e.hidden = !shown;
        e.dataset.doorKnown = "";
      }),
    );
  } catch {
    // what is not known stays hidden
  }
}
let soon;
new MutationObserver(() => (soon ??= requestAnimationFrame(() => ((soon = undefined), elements())))).observe(document, {
  subtree: true,
  childList: true,
  attributes: true,
  attributeFilter: ["data-door-may", "data-door-in", "data-door-out"],
});
elements();

export { DoorError, askBy, byDialogue, byPage, here, join, knock, lead, may, proveAgain, recover, refresh, secondFactor, signIn, signOut, unlock, watch };
