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
  // What a key unfolds is there to be typed into.
  if (target.matches("summary") && target.parentElement.open) target.parentElement.querySelector("textarea")?.focus();
});

for (const button of document.querySelectorAll("dialog [data-close]")) {
  button.addEventListener("click", () => button.closest("dialog").close());
}
for (const button of document.querySelectorAll("[data-open]")) {
  button.addEventListener("click", () => document.getElementById(button.dataset.open).showModal());
}
// On a phone the navigation and the course unfold where they are asked for.
for (const button of document.querySelectorAll("[data-unfold]")) {
  button.addEventListener("click", () => {
    const isUnfolded = button.closest(button.dataset.unfold).classList.toggle("unfolded");
    button.setAttribute("aria-expanded", String(isUnfolded));
  });
}
// The findings fold away, and stay so from page to page.
const fold = document.querySelector("[data-fold]");
const walkaround = document.querySelector(".walkaround");
const sayFolded = () => {
  const isFolded = walkaround.classList.contains("folded");
  fold.textContent = isFolded ? "Findings" : "Fold away";
  fold.setAttribute("aria-expanded", String(!isFolded));
};
if (fold && walkaround) {
  sayFolded();
  fold.addEventListener("click", () => {
    const isFolded = walkaround.classList.toggle("folded");
    // biome-ignore lint/suspicious/noDocumentCookie: the server reads it, so that the page comes as it will stay.
    document.cookie = `findings=${isFolded ? "folded" : "open"}; path=/; max-age=31536000; samesite=lax`;
    sayFolded();
  });
}

document.querySelector("[aria-current='true'].finding")?.scrollIntoView({ block: "nearest" });
document.querySelector(".pin.chosen")?.scrollIntoView({ block: "center", inline: "nearest" });
document.querySelector("tr.chosen")?.scrollIntoView({ block: "nearest" });
document.querySelector(".pane .excerpt mark")?.scrollIntoView({ block: "nearest" });

// A choice that shows another view at once; its button stays for those without a script.
for (const select of document.querySelectorAll("select[data-submit]")) {
  const button = select.form.querySelector("button[type=submit]");
  if (button) button.hidden = true;
  select.addEventListener("change", () => select.form.requestSubmit());
}

// Work in the background is done: the page shows it, but never takes from somebody what they have typed.
let hasTyped = false;
document.addEventListener("input", (event) => {
  if (!event.target.closest(".tools, [data-wiper]")) hasTyped = true;
});
// Nor does it call back somebody who is on the way to another page; a download leads to none.
let isLeaving = false;
addEventListener("beforeunload", () => {
  isLeaving = true;
  setTimeout(() => {
    isLeaving = false;
  }, 5000);
});
document.addEventListener("htmx:afterSwap", () => {
  if (
    document.querySelector("[data-fresh]") &&
    !hasTyped &&
    !isLeaving &&
    !document.querySelector("dialog[open], details.menu[open]")
  ) {
    location.reload();
  }
});
