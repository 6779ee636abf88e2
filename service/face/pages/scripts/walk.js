const frame = document.querySelector("iframe"), { about, ends } = document.body.dataset, get = (id) => document.getElementById(id);
const marks = {
  admit: "● allowed", challenge: "◆ asked to sign in", refuse: "■ denied", hide: "○ hidden", reject: "✕ invalid",
};
let shown = "";
async function tell() {
  let at = "";
  try {
    at = frame.contentWindow.location.pathname + frame.contentWindow.location.search;
  } catch {
    at = "";
  }
  if (at === shown) return;
  shown = at;
  get("alone").hidden = get("change").hidden = !at.startsWith("/");
  if (!at.startsWith("/")) {
    get("outcome").textContent = "elsewhere";
    get("says").textContent = "This isn't the site.";
    return;
  }
  const answer = await fetch(about + "?at=" + encodeURIComponent(at));
  if (!answer.ok) return location.reload();
  const said = await answer.json();
  if (at !== shown) return;
  get("outcome").textContent = marks[said.outcome] ?? said.outcome;
  get("outcome").dataset.outcome = said.outcome;
  get("says").textContent = said.own ? "A page of Ostiarius. It shows you as yourself." : said.path + ": " + said.says;
  get("change").href = said.change + encodeURIComponent(said.path);
  get("change").hidden = said.own || !said.path;
  get("alone").href = at;
  const list = (id, texts) =>
    get(id).replaceChildren(
      ...texts.map((text) => {
        const li = document.createElement("li");
        li.textContent = text;
        return li;
      }),
    );
  list("steps", said.steps);
  list("others", said.others.map((o) => (marks[o.outcome] ?? " " + o.outcome).replace(" ", " " + o.as + ": ")));
}
frame.addEventListener("load", tell);
setInterval(() => {
  tell();
  const left = Math.max(0, Math.round((Number(ends) - Date.now()) / 1000));
  get("left").textContent = Math.floor(left / 60) + ":" + String(left % 60).padStart(2, "0");
  if (left === 0) location.reload();
}, 500);
