// Keys, dropping files, and tables that sort, filter and export. Everything works without it too, save for the keys.
(() => {
  "use strict";

  const typing = (target) => target.closest("input, textarea, select, [contenteditable]");

  document.addEventListener("keydown", (event) => {
    if (event.ctrlKey || event.metaKey || event.altKey) return;
    if (event.key === "Escape" && typing(event.target)) { event.target.blur(); return; }
    if (typing(event.target) || document.querySelector("dialog[open]")) return;
    if (event.key === "?") { document.getElementById("keys")?.showModal(); event.preventDefault(); return; }
    const target = document.querySelector(`[data-key="${CSS.escape(event.key)}"]`);
    if (!target) return;
    event.preventDefault();
    if (target.matches("input, textarea, select")) target.focus(); else target.click();
  });

  document.querySelectorAll("dialog [data-close]").forEach((button) => button.addEventListener("click", () => button.closest("dialog").close()));
  document.querySelectorAll("[data-open]").forEach((button) => button.addEventListener("click", () => document.getElementById(button.dataset.open).showModal()));
  document.querySelector("[aria-current='true'].finding")?.scrollIntoView({ block: "nearest" });
  document.querySelector(".pin.chosen")?.scrollIntoView({ block: "center", inline: "nearest" });
  document.querySelector("tr.chosen")?.scrollIntoView({ block: "nearest" });
  document.querySelector(".excerpt mark")?.scrollIntoView({ block: "nearest" });

  // A choice that shows another view at once; its button stays for those without a script.
  document.querySelectorAll("select[data-submit]").forEach((select) => {
    const button = select.form.querySelector("button[type=submit]");
    if (button) button.hidden = true;
    select.addEventListener("change", () => select.form.requestSubmit());
  });

  // Two renders that scroll together, by share of their height.
  document.querySelectorAll("[data-together]").forEach((pair) => {
    const panes = [...pair.querySelectorAll(".scroll")];
    let leader = null;
    panes.forEach((pane) => pane.addEventListener("scroll", () => {
      if (leader && leader !== pane) return;
      leader = pane;
      panes.filter((other) => other !== pane).forEach((other) => { other.scrollTop = pane.scrollTop / Math.max(1, pane.scrollHeight - pane.clientHeight) * (other.scrollHeight - other.clientHeight); });
      clearTimeout(pair.quiet);
      pair.quiet = setTimeout(() => { leader = null; }, 120);
    }));
  });
  document.querySelectorAll("[data-wiper]").forEach((box) => box.querySelector("input[type=range]").addEventListener("input", (event) => box.style.setProperty("--at", `${event.target.value}%`)));

  // A click on a render opens the mark's form with the place filled in, in CSS px of the render.
  const shot = document.querySelector("[data-mark-width]"), marking = document.getElementById("set-mark");
  if (shot && marking) {
    shot.addEventListener("click", (event) => {
      if (event.target.closest("a")) return;
      const picture = shot.querySelector("img"), box = picture.getBoundingClientRect(), scale = Number(shot.dataset.markWidth) / box.width;
      marking.querySelector("[name=x]").value = ((event.clientX - box.left) * scale).toFixed(1);
      marking.querySelector("[name=y]").value = ((event.clientY - box.top) * scale).toFixed(1);
      marking.querySelector("[name=element]").value = "";
      marking.showModal();
      marking.querySelector("textarea").focus();
    });
  }

  // A file dropped anywhere goes into the page's one file form.
  const form = document.querySelector("form[data-drop]");
  if (form) {
    const input = form.querySelector("input[type=file]");
    const hasFile = (event) => [...(event.dataTransfer?.types || [])].includes("Files");
    document.addEventListener("dragover", (event) => { if (hasFile(event)) { event.preventDefault(); document.body.classList.add("over-page"); } });
    document.addEventListener("dragleave", (event) => { if (!event.relatedTarget) document.body.classList.remove("over-page"); });
    document.addEventListener("drop", (event) => {
      if (!hasFile(event)) return;
      event.preventDefault();
      document.body.classList.remove("over-page");
      input.files = event.dataTransfer.files;
      form.requestSubmit();
    });
  }

  const cellText = (row, index) => (row.cells[index]?.dataset.sort ?? row.cells[index]?.innerText ?? "").trim();
  const csvCell = (text) => { const safe = /^[=+\-@\t\r]/.test(text) && !/^-?[\d.,]+$/.test(text) ? `'${text}` : text; return `"${safe.replaceAll('"', '""')}"`; };

  const dress = (table) => {
    if (table.dataset.dressed || !table.tBodies.length) return;
    table.dataset.dressed = "yes";
    const body = table.tBodies[0];
    [...table.tHead.rows[0].cells].forEach((head, index) => {
      if (!head.textContent.trim()) return;
      const button = document.createElement("button");
      button.type = "button";
      button.append(...head.childNodes);
      head.append(button);
      button.addEventListener("click", () => {
        const up = head.getAttribute("aria-sort") !== "ascending";
        table.querySelectorAll("th").forEach((other) => other.removeAttribute("aria-sort"));
        head.setAttribute("aria-sort", up ? "ascending" : "descending");
        const order = new Intl.Collator(undefined, { numeric: true }).compare;
        [...body.rows].sort((a, b) => (up ? 1 : -1) * order(cellText(a, index), cellText(b, index))).forEach((row) => body.append(row));
      });
    });
    const tools = table.previousElementSibling;
    if (!tools?.classList.contains("tools")) return;
    const filter = document.createElement("input");
    filter.type = "search";
    filter.className = "form-control";
    filter.placeholder = "Filter rows";
    filter.setAttribute("aria-label", "Filter rows");
    filter.addEventListener("input", () => [...body.rows].forEach((row) => { row.hidden = !row.innerText.toLowerCase().includes(filter.value.toLowerCase()); }));
    const save = document.createElement("button");
    save.type = "button";
    save.className = "btn btn-plain small";
    save.textContent = "Save as CSV";
    save.addEventListener("click", () => {
      const rows = [table.tHead.rows[0], ...[...body.rows].filter((row) => !row.hidden)];
      const text = rows.map((row) => [...row.cells].map((cell) => csvCell(cell.innerText.trim())).join(",")).join("\r\n");
      const link = document.createElement("a");
      link.href = URL.createObjectURL(new Blob(["\ufeff", text, "\r\n"], { type: "text/csv" }));
      link.download = `${(tools.querySelector("h2")?.textContent || "table").trim().toLowerCase().replaceAll(/\W+/g, "-")}.csv`;
      link.click();
      URL.revokeObjectURL(link.href);
    });
    tools.append(filter, save);
  };
  const dressAll = () => document.querySelectorAll("table.sheet").forEach(dress);
  dressAll();
  document.addEventListener("htmx:afterSwap", dressAll);
})();
