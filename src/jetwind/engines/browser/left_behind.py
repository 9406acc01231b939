"""The traces of a message in a kept page, by which the next message would be shown otherwise than in a fresh one."""

from __future__ import annotations

import re

from jetwind.core.profiles import MARK_ATTRIBUTE

#: What stays with a page's document when another message is written into it: colours of links, and what meta elements say to the browser.
_STAYS = re.compile(r"\b[av]?link\s*=\s*[^\s>]{1,60}|<meta\b[^>]{1,400}", re.IGNORECASE)
_VALUE = r"(?:\"[^\"]*\"|'[^']*'|[^\s\"'>]+)"
#: Meta elements that say nothing to this browser, whose window is never a phone's: with no other attributes than these.
_SAYS_NOTHING = re.compile(
    rf"<meta(?:\s+(?:(?:charset|content|{MARK_ATTRIBUTE})\s*=\s*{_VALUE}|http-equiv\s*=\s*[\"']?(?:content-type|x-ua-compatible)[\"']?"
    r"|name\s*=\s*[\"']?(?:viewport|format-detection|generator|author|description|keywords|progid|originator|x-[\w-]+)[\"']?))*\s*/?\s*",
    re.IGNORECASE,
)


def left_behind(html: str) -> str:
    """The traces of a message in a page, as text to be compared."""
    return "\n".join(one for one in _STAYS.findall(html) if not _SAYS_NOTHING.fullmatch(one))
