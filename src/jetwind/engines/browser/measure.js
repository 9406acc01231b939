// Measures a page in one pass and answers with one string, which is far faster than objects.
// Each row: element, kind, box (x, y, width, height), characters, type size, weight, colour, ground, flags, colour of the words around, boxes of its lines.
// Flags: 1 a link among words, 2 more than colour tells it, 4 a picture that does not show.
([mark, withPaint]) => {
  // Asking for a computed value is what costs: one that nothing in the page sets is not asked for. An escape may hide any word.
  const source = document.documentElement.outerHTML.toLowerCase();
  const may = (word) => source.includes("\\") || source.includes(word);
  const mayFade = may("opacity"),
    mayHide = may("visibility"),
    mayClip = may("overflow") || may("clip") || may("contain") || may("<marquee") || may("<svg");
  // Read once: the page does not scroll meanwhile, and each reading asks for the layout anew. Places count from where the message's room
  // begins: beside a client's own chrome a message that is read from the right stands at the right.
  const origin = Math.round(document.documentElement.getBoundingClientRect().left + scrollX);
  const fromLeft = scrollX - origin,
    fromTop = scrollY;
  const rows = [];
  const painted = [];
  let links = 0,
    images = 0,
    words = 0,
    right = 0,
    left = 0;
  const MOST = 20000;
  const parsed = new Map();
  const parse = (text) => {
    if (!parsed.has(text)) parsed.set(text, parts(text));
    const found = parsed.get(text);
    return found && [...found];
  };
  const parts = (text) => {
    const found = /^rgba?\(([\d.]+), ([\d.]+), ([\d.]+)(?:, ([\d.]+))?\)$/.exec(text);
    if (found) return [+found[1], +found[2], +found[3], found[4] === undefined ? 1 : +found[4]];
    const wide = /^color\(srgb (\S+) (\S+) (\S+?)(?: \/ (\S+))?\)$/.exec(inSrgb(text));
    if (!wide) return null;
    const number = (part) => (part === "none" ? 0 : +part);
    const colour = wide.slice(1, 4).map((part) => Math.min(1, Math.max(0, number(part))) * 255);
    return [...colour, wide[4] === undefined ? 1 : number(wide[4])];
  };
  // A colour of another space as the browser itself converts it: a relative colour of an element that is there for this alone.
  const probe = document.createElement("i");
  const inSrgb = (text) => {
    if (text.startsWith("color(srgb ")) return text;
    document.documentElement.append(probe);
    probe.style.cssText = `all: initial !important; color: color(from ${text} srgb r g b / alpha) !important`;
    const found = getComputedStyle(probe).color;
    probe.remove();
    return found;
  };
  const over = (top, bottom) => {
    if (!top || !bottom) return null;
    return [0, 1, 2].map((part) => top[part] * top[3] + bottom[part] * (1 - top[3])).concat(1);
  };
  const inside = (box, clip) => {
    if (!clip) return box;
    const left = Math.max(box.left, clip.left),
      top = Math.max(box.top, clip.top);
    const end = Math.min(box.right, clip.right),
      bottom = Math.min(box.bottom, clip.bottom);
    return { left, top, right: end, bottom, width: Math.max(0, end - left), height: Math.max(0, bottom - top) };
  };
  const round = (value) => Math.round(value * 10) / 10;
  const lines = (element) => {
    const range = document.createRange();
    let box = null,
      count = 0;
    for (const node of element.childNodes) {
      if (node.nodeType !== 3) continue;
      const length = node.nodeValue
        .replace(/(?:[\s\u00a0\u00ad\u200b-\u200f\u2060\ufeff]|\u034f)+/g, " ")
        .trim().length;
      if (!length) continue;
      range.selectNodeContents(node);
      const part = range.getBoundingClientRect();
      if (!part.width || !part.height) continue;
      count += length;
      box = box
        ? {
            left: Math.min(box.left, part.left),
            top: Math.min(box.top, part.top),
            right: Math.max(box.right, part.right),
            bottom: Math.max(box.bottom, part.bottom),
          }
        : { left: part.left, top: part.top, right: part.right, bottom: part.bottom };
    }
    if (box) {
      box.width = box.right - box.left;
      box.height = box.bottom - box.top;
    }
    return [box, count];
  };
  const hasWords = (element) => {
    for (let node = element.firstChild; node; node = node.nextSibling)
      if (node.nodeType === 3 && /\S/.test(node.nodeValue)) return true;
    return false;
  };
  // A line of letters and a picture that stands in it are one place to hit.
  const joined = (boxes) => {
    const found = [];
    for (const { left, top, right, bottom } of boxes) {
      let one = { left, top, right, bottom };
      for (let at = found.length - 1; at >= 0; at--) {
        const other = found[at];
        if (other.left < one.right && one.left < other.right && other.top < one.bottom && one.top < other.bottom) {
          one = {
            left: Math.min(one.left, other.left),
            top: Math.min(one.top, other.top),
            right: Math.max(one.right, other.right),
            bottom: Math.max(one.bottom, other.bottom),
          };
          found.splice(at, 1);
        }
      }
      found.push(one);
    }
    return found.length > 1
      ? found.map((part) => [
          round(part.left + fromLeft),
          round(part.top + fromTop),
          round(part.right - part.left),
          round(part.bottom - part.top),
        ])
      : [];
  };
  const isInline = (style) =>
    style.display.startsWith("inline") &&
    style.display !== "inline-block" &&
    style.display !== "inline-table" &&
    style.display !== "inline-flex";
  const block = (element) => {
    let place = element.parentElement;
    while (place && place !== document.body && isInline(getComputedStyle(place))) place = place.parentElement;
    return place || document.body;
  };
  // Words that stand beside a link, outside of any link, in the same stretch of its paragraph: a break or a block ends a stretch.
  const beside = new Map();
  const seenParagraphs = new Set();
  const wordsBeside = (link, paragraph) => {
    if (!seenParagraphs.has(paragraph)) {
      seenParagraphs.add(paragraph);
      let stretch = { text: "" },
        seen = 0;
      const stack = [...paragraph.childNodes].reverse();
      while (stack.length && seen++ < 4000) {
        const node = stack.pop();
        if (node.nodeType === 3) {
          stretch.text += node.nodeValue;
          continue;
        }
        if (node.nodeType !== 1) continue;
        if (node.localName === "br" || node.localName === "hr") {
          stretch = { text: "" };
          continue;
        }
        const inline = isInline(getComputedStyle(node));
        if (node.localName === "a" && node.hasAttribute("href")) {
          if (inline) beside.set(node, stretch);
          continue;
        }
        if (inline) stack.push(...[...node.childNodes].reverse());
        else {
          stretch = { text: "" };
        }
      }
    }
    return beside.has(link) ? beside.get(link).text : "";
  };
  const flagsOf = (element, style) => {
    if (!isInline(style)) return [0, null];
    const paragraph = block(element);
    if (!/[\p{L}\p{N}]/u.test(wordsBeside(element, paragraph))) return [0, null];
    const around = getComputedStyle(element.parentElement);
    const decorated = (one) =>
      one.textDecorationLine !== "none" || (parseFloat(one.borderBottomWidth) > 0 && one.borderBottomStyle !== "none");
    let marked =
      decorated(style) ||
      style.fontWeight !== around.fontWeight ||
      style.fontStyle !== around.fontStyle ||
      style.fontSize !== around.fontSize ||
      style.fontFamily !== around.fontFamily ||
      style.backgroundImage !== "none" ||
      (style.backgroundColor !== "rgba(0, 0, 0, 0)" && style.backgroundColor !== around.backgroundColor);
    for (const inner of element.querySelectorAll("*")) {
      if (marked) break;
      const own = getComputedStyle(inner);
      marked =
        inner.localName === "img" ||
        decorated(own) ||
        own.fontWeight !== around.fontWeight ||
        own.fontStyle !== around.fontStyle;
    }
    return [1 + (marked ? 2 : 0), parse(around.color)];
  };
  const root = document.documentElement;
  const body = document.body;
  const fromRight = getComputedStyle(root).direction === "rtl" || (body && getComputedStyle(body).direction === "rtl");
  const dark = matchMedia("(prefers-color-scheme: dark)").matches && /dark/.test(getComputedStyle(root).colorScheme);
  const canvas = dark ? [18, 18, 18, 1] : [255, 255, 255, 1];

  // The ground that words of an element stand on; null where a picture, or a colour that cannot be read, lies behind them.
  const groundOf = (style, own, around) => {
    if (style.backgroundImage !== "none" || !own) return null;
    if (own[3] === 0) return around;
    return own[3] === 1 ? own : over(own, around);
  };
  const clips = (element, style) =>
    element !== body &&
    element !== root &&
    (style.overflowX !== "visible" || style.overflowY !== "visible" || style.clipPath !== "none");

  // The parser copies an open <font> or <b> into the next block, number and all: what stands in the copy is that block's own.
  const seen = new Set();
  const numberOf = (element) => {
    const number = element.getAttribute(mark);
    if (number === null || element.localName === "a") return number;
    if (!seen.has(number)) {
      seen.add(number);
      return number;
    }
    const around = element.parentElement?.closest(`[${mark}]`);
    if (!around) return number;
    const blocks = around.getAttribute(mark);
    element.setAttribute(mark, blocks);
    return blocks;
  };

  const LOOK = [
    "backgroundColor",
    "backgroundImage",
    "borderTop",
    "borderRight",
    "borderBottom",
    "borderLeft",
    "borderRadius",
    "boxShadow",
    "outline",
    "filter",
    "transform",
    "backgroundSize",
    "backgroundPosition",
    "backgroundRepeat",
    "objectFit",
    "listStyle",
    "opacity",
    "color",
    "textDecoration",
    "textTransform",
    "fontStyle",
    "textShadow",
    "fontFamily",
  ];
  const isBare = (style, own) =>
    own &&
    own[3] === 0 &&
    style.backgroundImage === "none" &&
    style.boxShadow === "none" &&
    style.outlineStyle === "none" &&
    ["Top", "Right", "Bottom", "Left"].every(
      (side) => style[`border${side}Style`] === "none" || style[`border${side}Width`] === "0px",
    );
  const paint = (element, style, own, box) => {
    const bare = isBare(style, own);
    if (element === root || element === body) {
      if (!bare) painted.push([0, 0, 0, 0, style.backgroundColor + style.backgroundImage]);
    } else if ((!bare || hasWords(element) || element.localName === "img") && box.width > 0 && box.height > 0) {
      painted.push([
        round(box.left + fromLeft),
        round(box.top + fromTop),
        round(box.width),
        round(box.height),
        LOOK.map((name) => style[name]).join("|"),
      ]);
    }
  };

  // One row, unless nothing of the place shows.
  const add = (what, kind, place, count, flags, around, boxes = []) => {
    const shown = inside(place, what.clip);
    if (shown.width <= 0.5 || shown.height <= 0.5) return;
    const x = shown.left + fromLeft;
    const y = shown.top + fromTop;
    // Left of a page that is read from the left nobody can scroll.
    if ((!fromRight && x + shown.width <= 0) || y + shown.height <= 0) return;
    rows.push([
      +what.number,
      kind,
      round(x),
      round(y),
      round(shown.width),
      round(shown.height),
      count,
      what.size,
      what.weight,
      what.colour,
      what.ground,
      flags,
      around,
      boxes,
    ]);
    right = Math.max(right, x + shown.width);
    left = Math.min(left, x);
  };

  // Everything of a link that can be hit: its own lines, and what stands in it as a block or a picture.
  const linkPlace = (element, style, box) => {
    const place = { left: box.left, top: box.top, right: box.right, bottom: box.bottom };
    const boxes =
      style.display === "inline" ? [...element.getClientRects()].filter((part) => part.width && part.height) : [];
    for (const inner of element.querySelectorAll("*")) {
      const part = inner.getBoundingClientRect();
      if (!part.width || !part.height || (inner.localName !== "img" && getComputedStyle(inner).display === "inline"))
        continue;
      place.left = Math.min(place.left, part.left);
      place.top = Math.min(place.top, part.top);
      place.right = Math.max(place.right, part.right);
      place.bottom = Math.max(place.bottom, part.bottom);
      boxes.push(part);
    }
    return [{ ...place, width: place.right - place.left, height: place.bottom - place.top }, joined(boxes)];
  };
  const addLink = (element, style, box, what) => {
    const [place, boxes] = linkPlace(element, style, box);
    const [flags, around] = flagsOf(element, style);
    links++;
    add(what, "link", place, 0, flags, around, boxes);
  };
  const addImage = (element, box, what) => {
    const broken = element.complete && !element.naturalWidth;
    const alt = (element.getAttribute("alt") || "").trim();
    images++;
    add(what, "image", box, broken && what.size > 0 && shows(what.colour) ? alt.length : 0, broken ? 4 : 0, null);
  };
  const addWords = (element, what) => {
    const [place, count] = lines(element);
    if (!place || !shows(what.colour)) return;
    words++;
    add(what, "text", place, count, 0, null);
  };
  const shows = (colour) => colour && colour[3] > 0;

  const measure = (element, style, box, number, { ground, clip, opacity }) => {
    const isLink = element.localName === "a" && element.hasAttribute("href");
    const isImage = element.localName === "img";
    if (!isLink && !isImage && !hasWords(element)) return;
    const colour = parse(style.color);
    if (colour) colour[3] *= opacity;
    const what = { number, size: parseFloat(style.fontSize), weight: +style.fontWeight, colour, ground, clip };
    if (isLink) addLink(element, style, box, what);
    if (isImage) addImage(element, box, what);
    if (what.size >= 1) addWords(element, what);
  };

  // What an element hands on to what stands in it, or null where nothing of it is laid out.
  const visit = (element, around) => {
    const tag = element.localName;
    if (tag === "head" || tag === "style" || tag === "title") return null;
    const style = getComputedStyle(element);
    if (style.display === "none") return null;
    const box = style.display === "contents" ? null : element.getBoundingClientRect();
    const own = parse(style.backgroundColor);
    const here = {
      ground: groundOf(style, own, around.ground),
      clip: mayClip && box && clips(element, style) ? inside(box, around.clip) : around.clip,
      opacity: mayFade ? around.opacity * +style.opacity : around.opacity,
    };
    const number = numberOf(element);
    if (box && (!mayHide || style.visibility === "visible") && here.opacity > 0.05) {
      if (withPaint) paint(element, style, own, box);
      if (number !== null) measure(element, style, box, number, here);
    }
    return here;
  };

  const stack = [[root, { ground: canvas, clip: null, opacity: 1 }]];
  while (stack.length && rows.length < MOST) {
    const [element, around] = stack.pop();
    const here = visit(element, around);
    for (let child = here && element.lastElementChild; child; child = child.previousElementSibling)
      stack.push([child, here]);
  }

  const lacks = (image) => image.complete && !image.naturalWidth;
  // A picture that does not come and gives no height of its own: what stands below it may stand elsewhere.
  const isUnsized = (image) =>
    lacks(image) &&
    /^https?:/.test(image.src) &&
    !image.src.endsWith("/blocked") &&
    !/^\d+(px)?$/.test(image.getAttribute("height") || "") &&
    !/\d/.test(image.style.height);
  return JSON.stringify({
    rows,
    painted,
    links,
    images,
    words,
    origin,
    right: Math.ceil(right),
    left: fromRight ? Math.floor(left) : 0,
    // A picture begins where a page that is read from the right can be scrolled to, which is left of its window.
    beyond: fromRight ? Math.max(0, root.scrollWidth - root.clientWidth) : 0,
    width: Math.max(root.scrollWidth, body ? body.scrollWidth : 0),
    height: Math.max(root.scrollHeight, body ? body.scrollHeight : 0),
    unsized: [...document.images].filter(isUnsized).length,
    broken: [...document.images].filter((image) => lacks(image) && image.getAttribute("src")).length,
  });
};
