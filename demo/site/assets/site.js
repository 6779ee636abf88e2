// What the navigation shows depends on who is signed in. It decides nothing: every page
// is guarded by itself, whether or not a link to it is shown. The browser shows what opens
// the gate of the office only there, so the link to it goes by the role.
const links = [...document.querySelectorAll("nav li[data-members]")];
const query = links.map((li) => "path=" + encodeURIComponent(li.querySelector("a").getAttribute("href"))).join("&");

async function ask(address) {
  const answer = await fetch(address, { headers: { Accept: "application/json" } });
  if (!answer.ok) throw new Error(answer.statusText);
  return answer.json();
}

try {
  const [me, { may }] = await Promise.all([ask("/door/me"), ask("/door/may?" + query)]);
  for (const li of links) {
    const open = "role" in li.dataset ? me.roles.includes(li.dataset.role) : may[li.querySelector("a").getAttribute("href")];
    li.hidden = me.signedIn && !open;
  }
  if (me.signedIn) {
    const form = document.createElement("form");
    form.method = "post";
    form.action = "/door/sign-out";
    const who = document.createElement("span");
    who.textContent = me.name + " ";
    const button = document.createElement("button");
    button.textContent = "Sign out";
    form.append(who, button);
    document.getElementById("account").replaceChildren(form);
  }
} catch {
  // The links as they stand do no harm.
}
