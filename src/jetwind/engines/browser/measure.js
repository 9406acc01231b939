// Measures a page in one pass and answers with one string, which is far faster than objects.
// Each row: element, kind, box (x, y, width, height), characters, type size, weight, colour, ground, flags, colour of the words around, boxes of its lines.
// Flags: 1 a link among words, 2 more than colour tells it, 4 a picture that does not show.
([mark, withPaint]) => {
  // Asking for a computed value is what costs: one that nothing in the page sets is not asked for. An escape may hide any word.
  const source = document.documentElement.outerHTML.toLowerCase();
  const may = (word) => source.includes('\\') || source.includes(word);
  const mayFade = may('opacity'), mayHide = may('visibility'), mayClip = may('overflow') || may('clip') || may('contain') || may('<marquee') || may('<svg');
  // Read once: the page does not scroll meanwhile, and each reading asks for the layout anew. Places count from where the message's room
  // begins: beside a client's own chrome a message that is read from the right stands at the right.
  const origin = Math.round(document.documentElement.getBoundingClientRect().left + scrollX);
  const fromLeft = scrollX - origin, fromTop = scrollY;
  const rows = [];
  const painted = [];
  let links = 0, images = 0, words = 0, right = 0, left = 0;
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
    const wide = /^color\(srgb ([\d.e-]+) ([\d.e-]+) ([\d.e-]+)(?: \/ ([\d.]+))?\)$/.exec(text);
    return wide ? [wide[1] * 255, wide[2] * 255, wide[3] * 255, wide[4] === undefined ? 1 : +wide[4]] : null;
  };
  const over = (top, bottom) => {
    if (!top || !bottom) return null;
    return [0, 1, 2].map((part) => top[part] * top[3] + bottom[part] * (1 - top[3])).concat(1);
  };
  const inside = (box, clip) => {
    if (!clip) return box;
    const left = Math.max(box.left, clip.left), top = Math.max(box.top, clip.top);
    const end = Math.min(box.right, clip.right), bottom = Math.min(box.bottom, clip.bottom);
    return { left, top, right: end, bottom, width: Math.max(0, end - left), height: Math.max(0, bottom - top) };
  };
  const round = (value) => Math.round(value * 10) / 10;
  const lines = (element) => {
    const range = document.createRange();
    let box = null, count = 0;
    for (const node of element.childNodes) {
      if (node.nodeType !== 3) continue;
      const length = node.nodeValue.replace(/[\s\u00a0\u00ad\u034f\u200b-\u200f\u2060\ufeff]+/g, ' ').trim().length;
      if (!length) continue;
      range.selectNodeContents(node);
      const part = range.getBoundingClientRect();
      if (!part.width || !part.height) continue;
      count += length;
      box = box ? { left: Math.min(box.left, part.left), top: Math.min(box.top, part.top), right: Math.max(box.right, part.right), bottom: Math.max(box.bottom, part.bottom) }
                : { left: part.left, top: part.top, right: part.right, bottom: part.bottom };
    }
    if (box) { box.width = box.right - box.left; box.height = box.bottom - box.top; }
    return [box, count];
  };
  const hasWords = (element) => {
    for (let node = element.firstChild; node; node = node.nextSibling) if (node.nodeType === 3 && /\S/.test(node.nodeValue)) return true;
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
          one = { left: Math.min(one.left, other.left), top: Math.min(one.top, other.top), right: Math.max(one.right, other.right), bottom: Math.max(one.bottom, other.bottom) };
          found.splice(at, 1);
        }
      }
      found.push(one);
    }
    return found.length > 1 ? found.map((part) => [round(part.left + fromLeft), round(part.top + fromTop), round(part.right - part.left), round(part.bottom - part.top)]) : [];
  };
  const isInline = (style) => style.display.startsWith('inline') && style.display !== 'inline-block' && style.display !== 'inline-table' && style.display !== 'inline-flex';
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
      let stretch = { text: '' }, seen = 0;
      const stack = [...paragraph.childNodes].reverse();
      while (stack.length && seen++ < 4000) {
        const node = stack.pop();
        if (node.nodeType === 3) { stretch.text += node.nodeValue; continue; }
        if (node.nodeType !== 1) continue;
        if (node.localName === 'br' || node.localName === 'hr') { stretch = { text: '' }; continue; }
        const inline = isInline(getComputedStyle(node));
        if (node.localName === 'a' && node.hasAttribute('href')) { if (inline) beside.set(node, stretch); continue; }
        if (inline) stack.push(...[...node.childNodes].reverse());
        else { stretch = { text: '' }; }
      }
    }
    return beside.has(link) ? beside.get(link).text : '';
  };
  const flagsOf = (element, style) => {
    if (!isInline(style)) return [0, null];
    const paragraph = block(element);
    if (!/[\p{L}\p{N}]/u.test(wordsBeside(element, paragraph))) return [0, null];
    const around = getComputedStyle(element.parentElement);
    const decorated = (one) => one.textDecorationLine !== 'none' || (parseFloat(one.borderBottomWidth) > 0 && one.borderBottomStyle !== 'none');
    let marked = decorated(style) || style.fontWeight !== around.fontWeight || style.fontStyle !== around.fontStyle || style.fontSize !== around.fontSize
      || style.fontFamily !== around.fontFamily || style.backgroundImage !== 'none' || (style.backgroundColor !== 'rgba(0, 0, 0, 0)' && style.backgroundColor !== around.backgroundColor);
    for (const inner of element.querySelectorAll('*')) {
      if (marked) break;
      const own = getComputedStyle(inner);
      marked = inner.localName === 'img' || decorated(own) || own.fontWeight !== around.fontWeight || own.fontStyle !== around.fontStyle;
    }
    return [1 + (marked ? 2 : 0), parse(around.color)];
  };
  const root = document.documentElement, body = document.body;
  const fromRight = getComputedStyle(root).direction === 'rtl' || (body && getComputedStyle(body).direction === 'rtl');
  const dark = matchMedia('(prefers-color-scheme: dark)').matches && /dark/.test(getComputedStyle(root).colorScheme);
  const canvas = dark ? [18, 18, 18, 1] : [255, 255, 255, 1];
  const seen = new Set();
  const stack = [[root, { ground: canvas, clip: null, opacity: 1, marked: false }]];
  while (stack.length && rows.length < MOST) {
    const [element, state] = stack.pop();
    const tag = element.localName;
    if (tag === 'head' || tag === 'style' || tag === 'title') continue;
    const style = getComputedStyle(element);
    if (style.display === 'none') continue;
    const box = style.display === 'contents' ? null : element.getBoundingClientRect();
    let { ground, clip, opacity } = state;
    if (mayFade) opacity *= +style.opacity;
    const own = parse(style.backgroundColor);
    if (style.backgroundImage !== 'none') ground = null;
    else if (!own) ground = null;
    else if (own[3] > 0) ground = own[3] === 1 ? own : over(own, ground);
    if (mayClip && box && element !== body && element !== root && (style.overflowX !== 'visible' || style.overflowY !== 'visible' || style.clipPath !== 'none')) clip = inside(box, clip);
    const shows = (!mayHide || style.visibility === 'visible') && opacity > 0.05;
    // The parser copies an open <font> or <b> into the next block, number and all: what stands in the copy is that block's own.
    let index = element.getAttribute(mark);
    if (index !== null && tag !== 'a') {
      if (!seen.has(index)) seen.add(index);
      else {
        const around = element.parentElement && element.parentElement.closest('[' + mark + ']');
        if (around) element.setAttribute(mark, index = around.getAttribute(mark));
      }
    }
    if (box && shows && withPaint) {
      const look = [style.backgroundColor, style.backgroundImage, style.borderTop, style.borderRight, style.borderBottom, style.borderLeft, style.borderRadius, style.boxShadow, style.outline, style.filter, style.transform, style.backgroundSize, style.backgroundPosition, style.backgroundRepeat, style.objectFit, style.listStyle, style.opacity, style.color, style.textDecoration, style.textTransform, style.fontStyle, style.textShadow, style.fontFamily].join('|');
      const bare = own && own[3] === 0 && style.backgroundImage === 'none' && style.boxShadow === 'none' && style.outlineStyle === 'none' && ['Top', 'Right', 'Bottom', 'Left'].every((side) => style['border' + side + 'Style'] === 'none' || style['border' + side + 'Width'] === '0px');
      const hasText = hasWords(element);
      if (element === root || element === body) { if (!bare) painted.push([0, 0, 0, 0, style.backgroundColor + style.backgroundImage]); }
      else if ((!bare || hasText || tag === 'img') && box.width > 0 && box.height > 0) painted.push([round(box.left + fromLeft), round(box.top + fromTop), round(box.width), round(box.height), look]);
    }
    const isLink = tag === 'a' && element.hasAttribute('href');
    if (index !== null && box && shows && (isLink || tag === 'img' || hasWords(element))) {
      const size = parseFloat(style.fontSize), weight = +style.fontWeight;
      const colour = parse(style.color);
      if (colour) colour[3] *= opacity;
      const row = (kind, place, count, flags, around, boxes = []) => {
        const seen = inside(place, clip);
        if (seen.width <= 0.5 || seen.height <= 0.5) return;
        // Left of a page that is read from the left nobody can scroll.
        if ((!fromRight && seen.left + fromLeft + seen.width <= 0) || seen.top + fromTop + seen.height <= 0) return;
        rows.push([+index, kind, round(seen.left + fromLeft), round(seen.top + fromTop), round(seen.width), round(seen.height), count, size, weight, colour, ground, flags, around, boxes]);
        right = Math.max(right, seen.left + fromLeft + seen.width);
        left = Math.min(left, seen.left + fromLeft);
      };
      if (isLink) {
        let { left, top, right: end, bottom } = box;
        const boxes = [];
        if (style.display === 'inline') for (const part of element.getClientRects()) if (part.width && part.height) boxes.push(part);
        for (const inner of element.querySelectorAll('*')) {
          const part = inner.getBoundingClientRect();
          if (part.width && part.height && (inner.localName === 'img' || getComputedStyle(inner).display !== 'inline')) { left = Math.min(left, part.left); top = Math.min(top, part.top); end = Math.max(end, part.right); bottom = Math.max(bottom, part.bottom); boxes.push(part); }
        }
        const [flags, around] = flagsOf(element, style);
        links++;
        row('link', { left, top, right: end, bottom, width: end - left, height: bottom - top }, 0, flags, around, joined(boxes));
      }
      if (tag === 'img') {
        const broken = element.complete && !element.naturalWidth;
        const alt = (element.getAttribute('alt') || '').trim();
        images++;
        row('image', box, broken && size > 0 && colour && colour[3] > 0 ? alt.length : 0, broken ? 4 : 0, null);
      }
      if (size >= 1) {
        const [place, count] = lines(element);
        if (place && colour && colour[3] > 0) { words++; row('text', place, count, 0, null); }
      }
    }
    for (let child = element.lastElementChild; child; child = child.previousElementSibling) stack.push([child, { ground, clip, opacity }]);
  }
  return JSON.stringify({
    rows, painted, links, images, words, origin, right: Math.ceil(right), left: fromRight ? Math.floor(left) : 0,
    width: Math.max(root.scrollWidth, body ? body.scrollWidth : 0),
    height: Math.max(root.scrollHeight, body ? body.scrollHeight : 0),
    // A picture that does not come and gives no height of its own: what stands below it may stand elsewhere.
    unsized: [...document.images].filter((image) => image.complete && !image.naturalWidth && /^https?:/.test(image.src) && !image.src.endsWith('/blocked') && !/^\d+(px)?$/.test(image.getAttribute('height') || '') && !/\d/.test(image.style.height)).length,
    broken: [...document.images].filter((image) => image.complete && !image.naturalWidth && image.getAttribute('src')).length,
  });
}
