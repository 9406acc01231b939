// Files dropped on a page.
// A file dropped anywhere goes into the page's one file form.
const form = document.querySelector("form[data-drop]");
if (form) {
  const input = form.querySelector("input[type=file]");
  const hasFile = (event) => [...(event.dataTransfer?.types || [])].includes("Files");
  document.addEventListener("dragover", (event) => {
    if (hasFile(event)) {
      event.preventDefault();
      document.body.classList.add("over-page");
    }
  });
  document.addEventListener("dragleave", (event) => {
    if (!event.relatedTarget) document.body.classList.remove("over-page");
  });
  document.addEventListener("drop", (event) => {
    if (!hasFile(event)) return;
    event.preventDefault();
    document.body.classList.remove("over-page");
    input.files = event.dataTransfer.files;
    form.requestSubmit();
  });
}
