// Renders that scroll together, the wiper, and setting a mark by a click.

// Two renders that scroll together, by share of their height.
const scrollTogether = (panes) => {
  let leader = null;
  let quiet = 0;
  const follow = (pane) => {
    if (leader && leader !== pane) return;
    leader = pane;
    const share = pane.scrollTop / Math.max(1, pane.scrollHeight - pane.clientHeight);
    for (const other of panes) {
      if (other !== pane) other.scrollTop = share * (other.scrollHeight - other.clientHeight);
    }
    clearTimeout(quiet);
    quiet = setTimeout(() => {
      leader = null;
    }, 120);
  };
  for (const pane of panes) pane.addEventListener("scroll", () => follow(pane));
};
for (const pair of document.querySelectorAll("[data-together]")) scrollTogether([...pair.querySelectorAll(".scroll")]);

document.addEventListener("input", (event) => {
  const box = event.target.matches("input[type=range]") && event.target.closest("[data-wiper]");
  if (box) box.style.setProperty("--at", `${event.target.value}%`);
});

// A click on a render opens the mark's form with the place filled in, in CSS px of the render.
const shot = document.querySelector("[data-mark-width]");
const marking = document.getElementById("set-mark");
shot?.addEventListener("click", (event) => {
  if (!marking || event.target.closest("a")) return;
  const box = shot.querySelector("img").getBoundingClientRect();
  const scale = Number(shot.dataset.markWidth) / box.width;
  marking.querySelector("[name=x]").value = ((event.clientX - box.left) * scale).toFixed(1);
  marking.querySelector("[name=y]").value = ((event.clientY - box.top) * scale).toFixed(1);
  marking.querySelector("[name=element]").value = "";
  marking.showModal();
  marking.querySelector("textarea").focus();
});
