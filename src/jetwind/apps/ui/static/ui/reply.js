// The answer page: a tap says where, and nothing typed is lost without a connection.

const form = document.querySelector("[data-draft]");
const answered = document.querySelector("[data-answered]");
const draftKey = `answer:${location.pathname}`;

/** The entries that are kept on the device: photos cannot be. */
const KEPT = ["verdict", "words", "device", "other", "left", "top"];

function keepDraft() {
  const entries = new FormData(form);
  const draft = Object.fromEntries(KEPT.map((name) => [name, entries.get(name) ?? ""]));
  localStorage.setItem(draftKey, JSON.stringify(draft));
}

function restoreDraft() {
  const draft = JSON.parse(localStorage.getItem(draftKey) ?? "null");
  for (const [name, value] of Object.entries(draft ?? {})) {
    const field = form.elements[name];
    // What the server sent back counts more than what the device kept.
    if (field && value && !field.value) {
      field.value = value;
    }
  }
}

function showTap(dot, left, top) {
  dot.hidden = left === "";
  dot.style.left = `${left}%`;
  dot.style.top = `${top}%`;
  document.querySelector("[data-untap]").hidden = left === "";
}

function watchTaps(holder) {
  const [image, dot] = [holder.querySelector("img"), holder.querySelector("i")];
  const { left, top } = form.elements;
  showTap(dot, left.value, top.value);
  image.addEventListener("click", (event) => {
    const box = image.getBoundingClientRect();
    left.value = ((100 * (event.clientX - box.left)) / box.width).toFixed(2);
    top.value = ((100 * (event.clientY - box.top)) / box.height).toFixed(2);
    showTap(dot, left.value, top.value);
    keepDraft();
  });
  document.querySelector("[data-untap]").addEventListener("click", () => {
    left.value = "";
    top.value = "";
    showTap(dot, "", "");
    keepDraft();
  });
}

if (answered) {
  localStorage.removeItem(draftKey);
}
if (form) {
  restoreDraft();
  form.addEventListener("input", keepDraft);
  form.addEventListener("submit", (event) => {
    keepDraft();
    const offline = document.querySelector("[data-offline]");
    offline.hidden = navigator.onLine;
    if (!navigator.onLine) {
      event.preventDefault();
      offline.scrollIntoView();
    }
  });
  const holder = document.querySelector("[data-tap]");
  if (holder) {
    watchTaps(holder);
  }
}
