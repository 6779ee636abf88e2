// What the navigation shows depends on who is signed in. It decides nothing: every page
// is guarded by itself, whether or not a link to it is shown. The browser shows what opens
// the gate of the office only there, so the link to it goes by the role, and is made for
// trustees alone.
import { here, may } from "/door/client.js";

const links = [...document.querySelectorAll("nav li[data-members]")];

try {
  const [me, places] = await Promise.all([here(), may(links.map((li) => li.querySelector("a").getAttribute("href")))]);
  links.forEach((li, i) => {
    li.hidden = me.signedIn && !places[i].may;
  });
  if (me.roles.includes("trustee") && !document.querySelector('nav a[href="/office/"]')) {
    const office = document.createElement("li");
    office.innerHTML = '<a href="/office/">Office</a>';
    document.querySelector("nav ul").append(office);
  }
  if (me.signedIn) {
    const form = document.createElement("form");
    form.method = "post";
    form.action = me.ways.signOut;
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
