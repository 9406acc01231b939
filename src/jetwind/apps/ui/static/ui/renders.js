// Renders that scroll together, the wiper, and a comment at a point.

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

// A click on a render opens the form of a comment with the place filled in, in CSS px of the render.
const shot = document.querySelector("[data-own-width]");
const commenting = document.getElementById("comment-here");
shot?.addEventListener("click", (event) => {
  if (!commenting || event.target.closest("a")) return;
  const box = shot.querySelector("img").getBoundingClientRect();
  const scale = Number(shot.dataset.ownWidth) / box.width;
  commenting.querySelector("[name=x]").value = ((event.clientX - box.left) * scale).toFixed(1);
  commenting.querySelector("[name=y]").value = ((event.clientY - box.top) * scale).toFixed(1);
  commenting.querySelector("[name=element]").value = "";
  commenting.showModal();
  commenting.querySelector("textarea").focus();
});
