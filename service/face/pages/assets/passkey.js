// Hands a question of the page to the browser's own passkeys, and sends what it answers with the form that has the question. Without
// scripts, or passkeys in the browser, the forms stay hidden, and what stands beside them does.
const bytes = (text) => Uint8Array.from(atob(text.replace(/-/g, "+").replace(/_/g, "/")), (c) => c.charCodeAt(0));
const text = (buffer) => btoa(String.fromCharCode(...new Uint8Array(buffer))).replace(/\+/g, "-").replace(/\//g, "_").replace(/=+$/, "");
const named = (all) => all.map((one) => ({ ...one, id: bytes(one.id) }));

function read(question) {
  const q = { ...question, challenge: bytes(question.challenge) };
  if (q.user) q.user = { ...q.user, id: bytes(q.user.id) };
  if (q.allowCredentials) q.allowCredentials = named(q.allowCredentials);
  if (q.excludeCredentials) q.excludeCredentials = named(q.excludeCredentials);
  return q;
}

function write(credential) {
  const response = {};
  for (const field of ["clientDataJSON", "attestationObject", "authenticatorData", "signature", "userHandle"]) {
    if (credential.response[field]) response[field] = text(credential.response[field]);
  }
  return JSON.stringify({ id: credential.id, type: credential.type, response });
}

let waiting; // the question that the browser answers only if somebody chooses a passkey in a field

function send(form, credential) {
  const ticked = document.querySelector("input[name=browser]:checked"); // in the form beside, it is meant for both
  if (ticked && !form.contains(ticked)) form.append(Object.assign(ticked.cloneNode(), { type: "hidden" }));
  form.elements.passkey.value = write(credential);
  form.submit();
}

for (const form of document.querySelectorAll("form[data-passkey]")) {
  if (!window.PublicKeyCredential) break;
  const publicKey = () => read(JSON.parse(form.dataset.question));
  const wrong = form.querySelector("[data-failed]");
  form.hidden = false;
  form.addEventListener("submit", async (event) => {
    event.preventDefault();
    wrong.hidden = true;
    waiting?.abort();
    try {
      send(form, form.dataset.passkey === "make" ? await navigator.credentials.create({ publicKey: publicKey() }) : await navigator.credentials.get({ publicKey: publicKey() }));
    } catch {
      wrong.hidden = false; // also if they have thought better of it; the browser does not tell
    }
  });
  if (form.dataset.fill !== undefined && (await window.PublicKeyCredential.isConditionalMediationAvailable?.())) {
    waiting = new AbortController();
    navigator.credentials.get({ publicKey: publicKey(), mediation: "conditional", signal: waiting.signal }).then((c) => send(form, c), () => {});
  }
}
