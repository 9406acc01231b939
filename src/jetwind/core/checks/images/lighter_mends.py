"""The mend of pictures that could be lighter: the lighter file stands in the place of the picture."""

from __future__ import annotations

import base64
from collections.abc import Iterator

from jetwind.core.checking import Context, Finding
from jetwind.core.checking.mends import Change, MendKind, leaves_alone, mend, turns
from jetwind.core.checks.images.lighter import PLAIN, SavingOptions, shown_width
from jetwind.core.checks.needs import pictures_in
from jetwind.core.images.lighter import Candidate, lighter
from jetwind.core.images.placing import lighter_parts
from jetwind.core.message import Message
from jetwind.core.source import Span

_HEAD = (
    "From: a@kiln.org\nSubject: x\nMIME-Version: 1.0\nContent-Type: multipart/related; boundary=b\n\n--b\nContent-Type: text/html\n\n"
    "<img src='cid:a@kiln.org' width='60' height='20' alt='x'>\n--b\n"
)
_TAIL = "\n--b--\n"


def _mail(kind: str, data: bytes) -> str:
    body = base64.encodebytes(data).decode().rstrip("\n")
    return f"{_HEAD}Content-Type: {kind}\nContent-Transfer-Encoding: base64\nContent-ID: <a@kiln.org>\n\n{body}{_TAIL}"


def _lightest() -> bytes:
    found = lighter(PLAIN, 60, SavingOptions().least_likeness)
    assert found is not None, "a BMP in one colour can be lighter"
    return found.data


@mend(
    "images.saving",
    kind=MendKind.CONFIRM,
    does="The lighter file takes the place of the picture in the mail; its format and the ending of its name are told anew.",
    leaves="Pictures that lie on a server, in a zip or in an address of the HTML are left to a person: the Images station hands the lighter files out.",
    samples=[
        turns(_mail("image/bmp", PLAIN), _mail("image/png", _lightest())),
        leaves_alone(f"<img src='data:image/bmp;base64,{base64.b64encode(PLAIN).decode()}' width='60' height='20' alt='x'>"),
    ],
)
def mend_saving(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """The same file that the check made, found anew by the picture's digest."""
    if message.root is None:
        return
    least = context.settings.get("images.saving", {}).get("least_likeness", SavingOptions().least_likeness)
    wanted = {str(finding.data.get("key", "")), *finding.each("key")}
    chosen: dict[str, Candidate] = {}
    for picture in pictures_in(message, context):
        if picture.key in wanted and picture.data is not None:
            found = lighter(picture.data, shown_width(message, context, picture), float(str(least)))
            if found is not None:
                chosen[picture.key] = found
    for part, octets in lighter_parts(message.root, chosen):
        yield Change("message", Span(part.offset, part.body_span.end), octets.decode("latin-1"))
