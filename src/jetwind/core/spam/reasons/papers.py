"""Reasons in the sender's papers: what name records and signatures say, where they were asked."""

from __future__ import annotations

from jetwind.core.checking import Context, clear, finds
from jetwind.core.checking.sample_values import Given
from jetwind.core.message import Message
from jetwind.core.papers import Dkim, Dmarc, Papers, Spf
from jetwind.core.spam.declaring import Evidence, found_by, reason

_MAIL = "From: Kiln Works <hello@kiln.org>\nSubject: x\n\nThe big kiln is fired on Monday.\n"
_SIGNED = f"DKIM-Signature: v=1; d=kiln.org; s=spring; h=from; bh=x; b=x\n{_MAIL}"
_GOOD = Dmarc("kiln.org", "kiln.org", "_dmarc.kiln.org", "v=DMARC1; p=reject", "reject", aligned=("SPF",))
_PASS = Spf("kiln.org", "192.0.2.25", "pass", "v=spf1 ip4:192.0.2.25 -all")


def _asked(spf: Spf = _PASS, dkim: tuple[Dkim, ...] = (), dmarc: Dmarc = _GOOD) -> Given:
    return {"papers": Papers("kiln.org", "zone file", spf, dkim, dmarc)}


@reason(
    id="spf-fails",
    name="Host that may not send for the domain",
    group="authentication",
    weight=1.5,
    by_hand=True,
    why="The domain's own record says that this host does not send its mail.",
    fix="Publish an SPF record that names the sending host.",
    samples=[
        clear(_MAIL, given=_asked()),
        clear(_MAIL),
        clear(_MAIL, given=_asked(Spf("kiln.org", "", "neutral", "v=spf1 -all"))),
        finds(_MAIL, given=_asked(Spf("kiln.org", "192.0.2.9", "fail", "v=spf1 -all"))),
    ],
)
def spf_fails(message: Message, context: Context) -> Evidence | None:
    """SPF says fail or softfail, finds no record, or finds a faulty one."""
    return found_by("sending.spf", message, context)


@reason(
    id="dkim-fails",
    name="Signature that does not hold",
    group="authentication",
    weight=1.5,
    by_hand=True,
    why="The message was changed after it was signed, or is forged.",
    fix="Sign the message as the last step, with the key that is published.",
    samples=[
        clear(_SIGNED, given=_asked(dkim=(Dkim("kiln.org", "spring", "pass"),))),
        clear(_MAIL, given=_asked()),
        finds(_SIGNED, given=_asked(dkim=(Dkim("kiln.org", "spring", "fail", "the body was changed after it was signed"),))),
    ],
)
def dkim_fails(message: Message, context: Context) -> Evidence | None:
    """A signature is there and does not verify, or a mail was sent without one."""
    return found_by("sending.dkim", message, context)


@reason(
    id="dmarc-fails",
    name="Nobody vouches for the sender",
    group="authentication",
    weight=1.5,
    by_hand=True,
    why="Neither SPF nor DKIM passes for the domain that readers see.",
    fix="Let SPF or DKIM pass for the domain in From, and publish a DMARC record.",
    samples=[clear(_MAIL, given=_asked()), clear(_MAIL), finds(_MAIL, given=_asked(dmarc=Dmarc("kiln.org", "kiln.org", aligned=("SPF",))))],
)
def dmarc_fails(message: Message, context: Context) -> Evidence | None:
    """No DMARC record, or nothing aligned under it."""
    return found_by("sending.dmarc", message, context)
