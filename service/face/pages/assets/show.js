// Adds to each masked field a button that shows what was typed. Without scripts the field stays masked.
for (const field of document.querySelectorAll("input[data-show]")) {
  const button = document.createElement("button");
  button.type = "button";
  button.className = "show";
  const say = () => {
    const shown = field.type === "text";
    button.textContent = shown ? field.dataset.hide : field.dataset.show;
    button.setAttribute("aria-pressed", String(shown));
  };
  button.addEventListener("click", () => {
    field.type = field.type === "password" ? "text" : "password";
    say();
    field.focus();
  });
  field.form.addEventListener("submit", () => { field.type = "password"; });
  button.setAttribute("aria-controls", field.id);
  say();
  const row = document.createElement("div");
  row.className = "masked";
  field.replaceWith(row);
  row.append(field, button);
  if (field.autofocus) field.focus();
}
