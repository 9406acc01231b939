// Tables that sort, filter and export.

const cellText = (row, index) => (row.cells[index]?.dataset.sort ?? row.cells[index]?.innerText ?? "").trim();
const inOrder = new Intl.Collator(undefined, { numeric: true }).compare;

const sortBy = (table, head, index) => {
  const body = table.tBodies[0];
  const up = head.getAttribute("aria-sort") !== "ascending";
  for (const other of table.querySelectorAll("th")) other.removeAttribute("aria-sort");
  head.setAttribute("aria-sort", up ? "ascending" : "descending");
  body.append(...[...body.rows].sort((a, b) => (up ? 1 : -1) * inOrder(cellText(a, index), cellText(b, index))));
};

const makeSortable = (table, head, index) => {
  if (!head.textContent.trim()) return;
  const button = document.createElement("button");
  button.type = "button";
  button.append(...head.childNodes);
  head.append(button);
  button.addEventListener("click", () => sortBy(table, head, index));
};

const filterOf = (table) => {
  const filter = document.createElement("input");
  filter.type = "search";
  filter.className = "form-control";
  filter.placeholder = "Filter rows";
  filter.setAttribute("aria-label", "Filter rows");
  filter.addEventListener("input", () => {
    const sought = filter.value.toLowerCase();
    for (const row of table.tBodies[0].rows) row.hidden = !row.innerText.toLowerCase().includes(sought);
  });
  return filter;
};

// What a spreadsheet would take for a formula is written as text, by the same rule as core/source/cells.py.
const FORMULA =
  /^(?:[\t\r\n]|[\s\u200b-\u200f\u2060-\u2064\ufeff]*[=+\-@\u2212\uff1d\uff0b\uff0d\uff20\ufe62\ufe63\ufe66\ufe6b])/;
const csvCell = (text) => {
  const safe = FORMULA.test(text.replace(/^'+/, "")) && !/^-?[\d.,]+$/.test(text) ? `'${text}` : text;
  return `"${safe.replaceAll('"', '""')}"`;
};

const saveAsCsv = (table, name) => {
  const rows = [table.tHead.rows[0], ...[...table.tBodies[0].rows].filter((row) => !row.hidden)];
  const text = rows.map((row) => [...row.cells].map((cell) => csvCell(cell.innerText.trim())).join(",")).join("\r\n");
  const link = document.createElement("a");
  link.href = URL.createObjectURL(new Blob(["\ufeff", text, "\r\n"], { type: "text/csv" }));
  link.download = `${name.trim().toLowerCase().replaceAll(/\W+/g, "-")}.csv`;
  link.click();
  URL.revokeObjectURL(link.href);
};

// In a narrow window each row is a small list, whose cells carry the name of their column.
const nameCells = (table) => {
  const names = [...table.tHead.rows[0].cells].map((head) => head.innerText.trim());
  for (const row of table.tBodies[0].rows) {
    for (const [index, cell] of [...row.cells].entries()) cell.dataset.label ??= names[index] ?? "";
  }
};

const saveButton = (table, name) => {
  const save = document.createElement("button");
  save.type = "button";
  save.className = "btn btn-plain small";
  save.textContent = "Save as CSV";
  save.addEventListener("click", () => saveAsCsv(table, name));
  return save;
};

const dress = (table) => {
  if (table.dataset.dressed || !table.tBodies.length) return;
  table.dataset.dressed = "yes";
  nameCells(table);
  for (const [index, head] of [...table.tHead.rows[0].cells].entries()) makeSortable(table, head, index);
  // A table that may be pushed sideways stands in a frame of its own.
  const tools = (table.closest(".scroll-x") ?? table).previousElementSibling;
  if (!tools?.classList.contains("tools")) return;
  tools.append(filterOf(table));
  // A table whose page has files of its own to save needs no second one.
  if (tools.dataset.saves === undefined)
    tools.append(saveButton(table, tools.querySelector("h2")?.textContent || "table"));
};

const dressAll = () => {
  for (const table of document.querySelectorAll("table.sheet")) if (table.tHead) dress(table);
};
dressAll();
document.addEventListener("htmx:afterSwap", dressAll);
