// What the navigation shows depends on who is signed in. It decides nothing: every page
// is guarded by itself, whether or not a link to it is shown.
const links = [...document.querySelectorAll("nav li[data-members]")];
const query = links.map((li) => "path=" + encodeURIComponent(li.querySelector("a").getAttribute("href"))).join("&");

async function ask(address) {
  const answer = await fetch(address, { headers: { Accept: "application/json" } });
  if (!answer.ok) throw new Error(answer.statusText);
  return answer.json();
}

try {
  const [me, { may }] = await Promise.all([ask("/door/me"), ask("/door/may?" + query)]);
  for (const li of links) li.hidden = me.signedIn && !may[li.querySelector("a").getAttribute("href")];
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
