// Keys, dialogs, and bringing what is chosen into view. Everything works without a script too, save for the keys.
const typing = (target) => target.closest("input, textarea, select, [contenteditable]");

document.addEventListener("keydown", (event) => {
  if (event.ctrlKey || event.metaKey || event.altKey) return;
  if (event.key === "Escape" && typing(event.target)) {
    event.target.blur();
    return;
  }
  if (typing(event.target) || document.querySelector("dialog[open]")) return;
  if (event.key === "?") {
    document.getElementById("keys")?.showModal();
    event.preventDefault();
    return;
  }
  const target = document.querySelector(`[data-key="${CSS.escape(event.key)}"]`);
  if (!target) return;
  event.preventDefault();
  if (target.matches("input, textarea, select")) target.focus();
  else target.click();
});

for (const button of document.querySelectorAll("dialog [data-close]")) {
  button.addEventListener("click", () => button.closest("dialog").close());
}
for (const button of document.querySelectorAll("[data-open]")) {
  button.addEventListener("click", () => document.getElementById(button.dataset.open).showModal());
}
document.querySelector("[aria-current='true'].finding")?.scrollIntoView({ block: "nearest" });
document.querySelector(".pin.chosen")?.scrollIntoView({ block: "center", inline: "nearest" });
document.querySelector("tr.chosen")?.scrollIntoView({ block: "nearest" });
document.querySelector(".excerpt mark")?.scrollIntoView({ block: "nearest" });

// A choice that shows another view at once; its button stays for those without a script.
for (const select of document.querySelectorAll("select[data-submit]")) {
  const button = select.form.querySelector("button[type=submit]");
  if (button) button.hidden = true;
  select.addEventListener("change", () => select.form.requestSubmit());
}
