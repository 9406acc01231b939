// The running sum of spam risk: reasons are switched on and off without loading the page. Without this script the links do it.

const round = (value) => Math.round(value * 10) / 10 + 0;

function redraw(sum) {
  const rows = [...sum.querySelectorAll("[data-reason]")];
  const weights = rows.map((row) => Number(row.dataset.weight));
  const axis = [Number(sum.dataset.lowest), Number(sum.dataset.highest)];
  const at = (points) => (100 * (points - axis[0])) / (axis[1] - axis[0]);
  let running = 0;
  rows.forEach((row, number) => {
    const isOn = !row.classList.contains("off");
    const start = Math.min(running, running + weights[number]);
    const bar = row.querySelector(".sum-track i");
    bar.style.left = `${at(start)}%`;
    bar.style.width = `${at(start + Math.abs(weights[number])) - at(start)}%`;
    running += isOn ? weights[number] : 0;
  });
  const score = round(running);
  let band = "low";
  for (const part of sum.dataset.lines.trim().split(" ")) {
    const [name, lowest] = part.split(":");
    if (score >= Number(lowest)) band = name;
  }
  sum.querySelector("[data-score]").textContent = `${score.toFixed(1)}, ${band}`;
  const off = rows.filter((row) => row.classList.contains("off")).map((row) => ["without", row.dataset.reason]);
  history.replaceState(null, "", off.length ? `?${new URLSearchParams(off)}` : location.pathname);
}

function flip(button) {
  const row = button.closest("[data-reason]");
  const isOff = row.classList.toggle("off");
  button.setAttribute("aria-pressed", String(!isOff));
  button.textContent = isOff ? "Count it" : "Leave it out";
  redraw(row.closest("[data-sum]"));
}

document.addEventListener("click", (event) => {
  const button = event.target.closest("[data-switch]");
  if (!button || event.ctrlKey || event.metaKey || event.shiftKey) return;
  event.preventDefault();
  flip(button);
});

document.addEventListener("keydown", (event) => {
  const button = event.key === " " && event.target.closest?.("[data-switch]");
  if (!button) return;
  event.preventDefault();
  flip(button);
});
