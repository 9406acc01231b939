"""The copy's words on replies fit the address that replies go to."""

from __future__ import annotations

import re
from collections.abc import Iterator

from jetwind.core.checking import Context, Hit, Level, Options, check, clear, finds
from jetwind.core.checking import copy as copies
from jetwind.core.facts import phrase_pattern
from jetwind.core.message import Message

#: Local parts of addresses that nobody reads (common practice, no published source).
_UNREAD = re.compile(
    r"(?:do[._-]?)?no[nt]?[._-]?(?:reply|antwort|repl(?:y|ies))|(?:ne|no|nao)[._-]?(?:pas[._-]?)?(?:repondre|responder|contestar|rispondere)|bounces?",
    re.IGNORECASE,
)
_HEAD = "From: Kiln <hello@kiln.org>\nSubject: x\n"
_NOT = "Please do not reply to this e-mail."


@check(
    id="wording.no-reply",
    name="Replies wanted and refused",
    level=Level.NOTE,
    why="The copy turns readers away while an address waits for their answers.",
    fix="Take the sentence out, or leave the reply address away.",
    basis="Common practice, no published source",
    samples=[
        clear(f"{_HEAD}\n{_NOT}\n"),  # no reply address is given
        clear(f"{_HEAD}Reply-To: help@kiln.org\n\nReply to this e-mail, and we will help. Do not reply with your password.\n"),
        clear(f"{_HEAD}Reply-To: no-reply@kiln.org\n\n{_NOT}\n"),
        clear(f"{_HEAD}Reply-To: {{{{ replies }}}}\n\n{_NOT}\n"),
        finds(f"{_HEAD}Reply-To: help@kiln.org\n\n{_NOT}\n", at="Please do not reply"),
        finds(f"{_HEAD}Reply-To: Kiln <help@kiln.org>\nContent-Type: text/html\n\n<p>Bitte antworten Sie nicht auf diese E-Mail.</p>\n"),
        finds(f"{_HEAD}Reply-To: help@kiln.org\n\nMerci de ne pas répondre à ce message.\n"),
    ],
)
def find_no_reply(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Where a reply address is given, the copy does not ask to leave replies."""
    given = next(
        (
            box.address
            for box in message.mailboxes("Reply-To")
            if "@" in box.address and not message.holds_field(box.address) and not _UNREAD.search(box.address.partition("@")[0])
        ),
        "",
    )
    if not given:
        return
    for copy in copies.all_copy(message):
        if copy.where in (copies.HTML, copies.TEXT) and (match := phrase_pattern("phrases", "no_reply").search(copy.text)) is not None:
            place = copy.place(match.start(), match.end())
            yield Hit(
                "The copy says “{words}”, and replies go to {address}.",
                place,
                {"words": match[0][:60], "address": given},
                identity="no-reply",
            )
            return
