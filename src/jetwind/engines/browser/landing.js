(() => {
  // What a phone shows of a page: how wide it is, and how small its copy is. A page that does not fit is shown smaller.
  const root = document.scrollingElement || document.documentElement;
  const layout = document.documentElement.clientWidth;
  const content = Math.max(root.scrollWidth, document.documentElement.scrollWidth);
  const shrunk = Math.min(1, screen.width / Math.max(layout, 1));
  const walker = document.createTreeWalker(document.body || document.documentElement, NodeFilter.SHOW_TEXT);
  const sizes = {};
  let seen = 0;
  while (walker.nextNode() && seen < 4000) {
    const text = walker.currentNode;
    const letters = text.data.replace(/\s+/g, " ").trim().length;
    const element = text.parentElement;
    if (!letters || !element || ["SCRIPT", "STYLE", "NOSCRIPT", "TEMPLATE"].includes(element.tagName)) continue;
    seen += 1;
    const box = element.getBoundingClientRect();
    const style = getComputedStyle(element);
    if (!box.width || !box.height || style.visibility === "hidden") continue;
    const size = Math.round(Number.parseFloat(style.fontSize) * shrunk * 10) / 10;
    sizes[size] = (sizes[size] || 0) + letters;
  }
  const title = (document.title || "").slice(0, 300);
  const heading = (document.querySelector("h1")?.innerText || "").slice(0, 300);
  return JSON.stringify({
    layout,
    content,
    screen: screen.width,
    height: root.scrollHeight,
    sizes,
    title,
    heading,
    language: document.documentElement.lang || "",
  });
})();
