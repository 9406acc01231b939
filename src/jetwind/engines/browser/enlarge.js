// Sets every text of a page twice as large and answers, as one string, with what is lost by it.
// Rows: "cut", the element of the text, the element whose box cuts it off; or "covers", the element of a text, that of the text which it covers.
(mark) => {
  // Beyond these nobody reads on, and each pair of lines is looked at.
  const MOST_ELEMENTS = 8000,
    MOST_LINES = 3000,
    MOST_ROWS = 200,
    MOST_PAIRS = 5000,
    MOST_COMPARED = 1000000;
  // A line's box is taller than its letters: they stand in its middle (from 20 % to 80 %, between the top of capitals and the ground line).
  const TRIM = 0.2;
  // Shares of a line that may be lost, and by how much two may cross: letters lean out of their boxes.
  const CUT = 0.12,
    CROSSED = 0.15,
    LEAST_PX = 3;
  const marked = [...document.querySelectorAll(`[${mark}]`)].slice(0, MOST_ELEMENTS);
  const hasWords = (element) =>
    [...element.childNodes].some((node) => node.nodeType === 3 && /[\p{L}\p{N}]/u.test(node.nodeValue));
  const ownNumber = (element) => +(element.closest(`[${mark}]`)?.getAttribute(mark) ?? -1);

  // What an element cuts off of what stands in it, as [left, top, right, bottom]; null for nothing. What can be scrolled is not lost.
  const cutting = (element, style) => {
    if (
      element === document.body ||
      element === document.documentElement ||
      style.display === "inline" ||
      style.display === "contents"
    )
      return null;
    const across = style.overflowX === "hidden" || style.overflowX === "clip";
    const down = style.overflowY === "hidden" || style.overflowY === "clip";
    if (!across && !down) return null;
    const box = element.getBoundingClientRect();
    return [
      across ? box.left + element.clientLeft : -Infinity,
      down ? box.top + element.clientTop : -Infinity,
      across ? box.left + element.clientLeft + element.clientWidth : Infinity,
      down ? box.top + element.clientTop + element.clientHeight : Infinity,
    ];
  };
  const linesOf = (element) => {
    const range = document.createRange();
    const found = [];
    for (const node of element.childNodes) {
      if (node.nodeType !== 3 || !/\S/.test(node.nodeValue)) continue;
      range.selectNodeContents(node);
      for (const line of range.getClientRects()) {
        const trim = line.height * TRIM;
        if (line.width >= 1 && line.height >= 1)
          found.push([line.left, line.top + trim, line.right, line.bottom - trim]);
      }
    }
    return found;
  };
  const shared = (one, other) => [
    Math.min(one[2], other[2]) - Math.max(one[0], other[0]),
    Math.min(one[3], other[3]) - Math.max(one[1], other[1]),
  ];
  const area = (box) => (box[2] - box[0]) * (box[3] - box[1]);

  const look = (texts) => {
    const styles = new Map();
    const styleOf = (element) => {
      if (!styles.has(element)) {
        const style = getComputedStyle(element);
        styles.set(element, [cutting(element, style), style.opacity === "0" || style.clipPath !== "none"]);
      }
      return styles.get(element);
    };
    const cut = new Map();
    const lines = [];
    for (const element of texts) {
      const style = getComputedStyle(element);
      if (style.visibility !== "visible" || parseFloat(style.fontSize) < 2 || /^rgba\(.*, 0\)$/.test(style.color))
        continue;
      const cutters = [];
      let hidden = false;
      for (let place = element; place && !hidden; place = place.parentElement) {
        const [box, unseen] = styleOf(place);
        hidden = unseen;
        if (box) cutters.push([place, box]);
      }
      if (hidden) continue;
      for (const line of linesOf(element)) {
        if (lines.length >= MOST_LINES) break;
        let seen = line;
        for (const [place, box] of cutters) {
          const left = [
            Math.max(seen[0], box[0]),
            Math.max(seen[1], box[1]),
            Math.min(seen[2], box[2]),
            Math.min(seen[3], box[3]),
          ];
          const isLost = left[2] <= left[0] || left[3] <= left[1];
          if (isLost || area(left) < area(seen) * (1 - CUT)) {
            if (!cut.has(element)) cut.set(element, place);
          }
          seen = isLost ? null : left;
          if (!seen) break;
        }
        if (seen) lines.push([element, seen]);
      }
    }
    return [cut, lines];
  };
  // Pairs of texts that cover each other, by a sweep from the top: only lines of the same height of the page are held against each other.
  // Null for a page so crowded that they are not all looked at: what was so before could not be told from what is new.
  const crossings = (lines) => {
    const found = new Map();
    const sorted = [...lines].sort((one, other) => one[1][1] - other[1][1]);
    let open = [],
      pairs = 0,
      compared = 0;
    for (const [element, box] of sorted) {
      open = open.filter(([, other]) => other[3] > box[1] + LEAST_PX);
      compared += open.length;
      if (compared > MOST_COMPARED || pairs > MOST_PAIRS) return null;
      for (const [other, place] of open) {
        if (other === element) continue;
        const [across, down] = shared(box, place);
        const least = Math.min(box[3] - box[1], place[3] - place[1]);
        if (across > LEAST_PX && down > LEAST_PX && down > least * CROSSED) {
          const before = other.compareDocumentPosition(element) & Node.DOCUMENT_POSITION_FOLLOWING;
          const [first, second] = before ? [other, element] : [element, other];
          if (!found.has(first)) found.set(first, new Set());
          found.get(first).add(second);
          pairs++;
        }
      }
      open.push([element, box]);
    }
    return found;
  };

  const texts = marked.filter(hasWords);
  const [cutBefore, linesBefore] = look(texts);
  const crossedBefore = crossings(linesBefore);
  const shownBefore = new Set(linesBefore.map(([element]) => element));
  const sizes = marked.map((element) => {
    const style = getComputedStyle(element);
    return [element, parseFloat(style.fontSize), parseFloat(style.lineHeight)];
  });
  for (const [element, size, line] of sizes) {
    element.style.setProperty("font-size", `${2 * size}px`, "important");
    if (line) element.style.setProperty("line-height", `${2 * line}px`, "important");
  }
  const [cut, lines] = look(texts.filter((element) => shownBefore.has(element) && !cutBefore.has(element)));
  const rows = [];
  for (const [element, place] of cut) rows.push(["cut", ownNumber(element), ownNumber(place)]);
  for (const [first, others] of (crossedBefore && crossings(lines)) || [])
    for (const second of others)
      if (!crossedBefore.get(first)?.has(second)) rows.push(["covers", ownNumber(first), ownNumber(second)]);
  return JSON.stringify(rows.slice(0, MOST_ROWS));
};
