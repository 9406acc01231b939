"""Name records and signatures of the sender (SPF, DKIM, DMARC, BIMI)."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Annotated

from jetwind.core.checking import CannotTell, Context, DoesNotApply, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checking.options import About
from jetwind.core.checking.sample_values import Given
from jetwind.core.message import Message
from jetwind.core.papers import Bimi, Dkim, Dmarc, Papers, Spf, is_as_sent, sender_domain
from jetwind.core.papers.records import dkim_to_publish, dmarc_to_publish, spf_to_publish

_MAIL = "From: Kiln Works <hello@kiln.org>\nSubject: x\n"
_SENT = f"{_MAIL}Received: from out.kiln.org by mx.elsewhere.net; Tue, 9 Mar 2027 09:00:00 +0000\n"
_SIGNED = f"{_SENT}DKIM-Signature: v=1; a=ed25519-sha256; d=kiln.org; s=spring; h=from:subject; bh=x; b=x\n"
_SPF = Spf("kiln.org", "192.0.2.25", "pass", "v=spf1 ip4:192.0.2.25 -all")
_DKIM = Dkim("kiln.org", "spring", "pass", covers=("from", "subject"))
_DMARC = Dmarc("kiln.org", "kiln.org", "_dmarc.kiln.org", "v=DMARC1; p=reject", "reject", aligned=("SPF", "DKIM"))


def _asked(spf: Spf | None = _SPF, dkim: tuple[Dkim, ...] = (), dmarc: Dmarc | None = _DMARC, bimi: Bimi | None = None) -> Given:
    """For ``given`` of a sample: these papers were found."""
    return {"papers": Papers("kiln.org", "zone file", spf=spf, dkim=dkim, dmarc=dmarc, bimi=bimi)}


def _need_papers(message: Message, context: Context) -> Papers:
    if message.form == "eml" and not message.mailboxes("From"):
        raise DoesNotApply("the message has no sender; envelope.sender-missing tells")
    if message.envelope_known and not sender_domain(message):
        raise CannotTell("the sender's domain is not known yet")
    if context.papers is None or not context.papers.domain:
        raise CannotTell("no name records were asked: --zone gives them in a file, --live asks the DNS")
    return context.papers


def _from(message: Message) -> Place:
    return Place.in_header(message, "From", message.header("From"))


@check(
    id="sending.spf",
    name="Host that may not send for the domain",
    level=Level.STOP,
    why="Receivers refuse mail from a host that the domain's own record does not name.",
    fix="Publish a record that names the sending host.",
    basis="RFC 7208",
    samples=[
        clear(f"{_MAIL}\nx\n", given=_asked()),
        clear(f"{_MAIL}\nx\n"),  # nothing was asked
        clear(f"{_MAIL}\nx\n", given=_asked(Spf("kiln.org", "", "neutral", "v=spf1 -all"))),  # no host was named
        clear(f"{_MAIL}\nx\n", given=_asked(Spf("kiln.org", "192.0.2.25", "temperror", "", "nobody answers"))),
        # Told once, by sending.spf-lookups.
        clear(
            f"{_MAIL}\nx\n",
            given=_asked(Spf("kiln.org", "192.0.2.25", result="permerror", record="v=spf1 -all", why="more than 10 look-ups", counted=14)),
        ),
        finds(f"{_MAIL}\nx\n", given=_asked(Spf("kiln.org", "192.0.2.9", "fail", "v=spf1 ip4:192.0.2.25 -all"))),
        finds(f"{_MAIL}\nx\n", given=_asked(Spf("kiln.org", "192.0.2.9", "softfail", "v=spf1 ip4:192.0.2.25 ~all"))),
        finds(f"{_MAIL}\nx\n", given=_asked(Spf("kiln.org", "192.0.2.9", "none"))),
        finds(f"{_MAIL}\nx\n", given=_asked(Spf("kiln.org", "", "permerror", "v=spf1 ip5:x -all", "Unknown mechanism found: ip5:x"))),
    ],
)
def find_spf(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """The sending domain's record names the sending host."""
    papers = _need_papers(message, context)
    spf = papers.spf
    if spf is None:
        raise CannotTell("no SPF record was asked for")
    if spf.result == "temperror":
        raise CannotTell(f"nobody answered for the SPF record of {spf.domain}: {spf.why}")
    place, data = _spf_place(message, spf), {"domain": spf.domain, "host": spf.host}
    publish = f"Publish as TXT at {spf.domain}: {spf_to_publish(spf)}"
    if spf.result == "permerror" and not _is_over(spf):
        yield Hit(
            "The SPF record of {domain} is faulty: {why}",
            place,
            data | {"why": spf.why},
            identity="spf",
            fix="Mend the record; receivers use none of it.",
        )
    elif spf.result == "none":
        yield Hit("{domain} has no SPF record.", place, data, identity="spf", level=Level.FIX, fix=publish)
    elif not spf.host and not _is_over(spf):
        raise CannotTell("no sending host was named (--sending-host)")
    elif spf.result == "fail":
        yield Hit("{host} may not send for {domain}: its SPF record says fail.", place, data, identity="spf", fix=publish)
    elif spf.result in ("softfail", "neutral"):
        what = "softfail" if spf.result == "softfail" else "neither yes nor no"
        yield Hit(
            "The SPF record of {domain} says of {host}: {what}.", place, data | {"what": what}, identity="spf", level=Level.FIX, fix=publish
        )


def _spf_place(message: Message, spf: Spf) -> Place:
    name = "Return-Path" if spf.identity == "return path" and message.header("Return-Path") else "From"
    return Place.in_header(message, name, message.header(name))


def _is_over(spf: Spf) -> bool:
    return spf.result == "permerror" and "look-ups" in spf.why and "without" not in spf.why


@dataclass(frozen=True)
class LookupOptions(Options):
    """The options that a house may set."""

    most_lookups: Annotated[int, About("look-ups that a record may ask for", unit="look-ups")] = 10


@check(
    id="sending.spf-lookups",
    name="SPF record with too many look-ups",
    level=Level.FIX,
    why="Receivers stop after ten and treat the record as faulty, so no host passes.",
    fix="Take out the includes that nobody uses any more, or replace them by addresses.",
    basis="RFC 7208 §4.6.4",
    options=LookupOptions,
    samples=[
        clear(f"{_MAIL}\nx\n", given=_asked()),
        clear(f"{_MAIL}\nx\n", given=_asked(Spf("kiln.org", "192.0.2.25", "pass", "v=spf1 a -all", counted=10))),
        clear(f"{_MAIL}\nx\n"),
        finds(
            f"{_MAIL}\nx\n",
            given=_asked(
                Spf("kiln.org", "192.0.2.25", result="permerror", record="v=spf1 a -all", why="more than 10 look-ups", counted=14)
            ),
        ),
        finds(f"{_MAIL}\nx\n", given=_asked(Spf("kiln.org", "192.0.2.25", "pass", "v=spf1 a -all", counted=11))),
    ],
)
def find_lookups(message: Message, context: Context, options: LookupOptions) -> Iterator[Hit]:
    """The SPF record asks for at most ten look-ups, includes and all."""
    spf = _need_papers(message, context).spf
    if spf is None:
        raise CannotTell("no SPF record was asked for")
    if spf.result == "temperror":
        raise CannotTell(f"nobody answered for the SPF record of {spf.domain}: {spf.why}")
    if spf.counted > options.most_lookups or _is_over(spf):
        data = {"domain": spf.domain, "count": max(spf.counted, options.most_lookups + 1), "most": options.most_lookups}
        yield Hit(
            "The SPF record of {domain} asks for {count} look-ups, over the limit of {most}.",
            _spf_place(message, spf),
            data,
            identity="lookups",
        )


@check(
    id="sending.dkim",
    name="Signature that does not hold",
    level=Level.STOP,
    why="A broken signature tells the receiver that the message was changed on its way, or is forged.",
    fix="Sign the message as the last step, after which nothing changes it, with the key that is published.",
    basis="RFC 6376; RFC 8463",
    samples=[
        clear(f"{_SIGNED}\nx\n", given=_asked(dkim=(_DKIM,))),
        clear(f"{_MAIL}\nx\n", given=_asked()),  # a template, which is signed when it is sent
        clear(f"{_SIGNED}\nx\n", given=_asked(dkim=(Dkim("kiln.org", "spring", "temperror", "nobody answers"),))),
        clear(f"{_SIGNED}\nx\n"),
        finds(f"{_SIGNED}\nx\n", given=_asked(dkim=(replace(_DKIM, remarks=("the domain is only testing",)),))),
        clear(f"{_SIGNED}\nx\n", given=_asked(dkim=(_DKIM, Dkim("list.net", "x", "fail", "body")))),  # one that holds is enough
        finds(f"{_SIGNED}\nx\n", given=_asked(dkim=(Dkim("kiln.org", "spring", "fail", "the body was changed after it was signed"),))),
        finds(f"{_SENT}\nx\n", given=_asked()),
    ],
)
def find_dkim(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Every signature verifies, and a mail as it was sent has one."""
    papers = _need_papers(message, context)
    headers = list(message.header_fields("DKIM-Signature"))
    if not papers.dkim and not headers:
        if is_as_sent(message):
            yield Hit("The message was sent without a DKIM signature.", _from(message), identity="absent", level=Level.FIX)
            return
        raise CannotTell("the message has no signature yet; say what will sign it, and its key is asked for")
    failed = [one for one in papers.dkim if one.result == "fail"]
    if any(one.result in ("pass", "planned") and one.domain and _is_of(one, papers) for one in papers.dkim):
        failed = [one for one in failed if _is_of(one, papers)]
    for one in failed:
        sentence = (
            "The key of {selector} at {domain}: {why}." if papers.is_planned else "The DKIM signature of {domain} does not verify: {why}."
        )
        yield Hit(
            sentence,
            _signed_at(message, one),
            {"domain": one.domain or "nobody", "selector": one.selector, "why": one.why.rstrip(".")},
            identity=f"{one.domain}:{one.selector}",
            fix=dkim_to_publish(one) if "record" in one.why else None,
        )
    for one in papers.dkim:
        for remark in one.remarks if one.result in ("pass", "planned") else ():
            data = {"domain": one.domain or "nobody", "remark": remark}
            identity = f"{one.domain}:{one.selector}:{remark[:20]}"
            yield Hit(
                "The DKIM signature of {domain} counts in part: {remark}.",
                _signed_at(message, one),
                data,
                identity=identity,
                level=Level.NOTE,
            )
    unanswered = [one for one in papers.dkim if one.result == "temperror"]
    if unanswered and not failed:
        raise CannotTell(f"nobody answered for the key of {unanswered[0].domain}: {unanswered[0].why}")


def _signed_at(message: Message, one: Dkim) -> Place:
    """The header with a signature; that of the sender, where the message has none yet."""
    headers = list(message.header_fields("DKIM-Signature"))
    return Place.in_header(message, "DKIM-Signature", headers[one.number]) if one.number < len(headers) else _from(message)


def _is_of(one: Dkim, papers: Papers) -> bool:
    return papers.domain == one.domain or papers.domain.endswith(f".{one.domain}")


@check(
    id="sending.dmarc",
    name="Nobody vouches for the sender",
    level=Level.STOP,
    why="Large mailbox providers ask bulk senders for DMARC, and put aside what fails it.",
    fix="Let SPF or DKIM pass for the domain that readers see in From, and publish a DMARC record.",
    basis="RFC 7489 §3.1",
    samples=[
        clear(f"{_SIGNED}\nx\n", given=_asked(dkim=(_DKIM,))),
        clear(
            f"{_MAIL}\nx\n",
            given=_asked(
                Spf("kiln.org", "", "neutral", "v=spf1 -all"),
                dmarc=Dmarc("kiln.org", "kiln.org", "_dmarc.kiln.org", "v=DMARC1; p=none", "none"),
            ),
        ),
        clear(f"{_MAIL}\nx\n"),
        clear(f"{_MAIL}\nx\n", given=_asked(dmarc=Dmarc("kiln.org", "kiln.org", failed=True, why="nobody answers"))),
        finds(f"{_MAIL}\nx\n", given=_asked(dmarc=Dmarc("kiln.org", "kiln.org", aligned=("SPF",)))),
        finds(
            f"{_MAIL}\nx\n", given=_asked(dmarc=Dmarc("kiln.org", "kiln.org", "_dmarc.kiln.org", "v=DMARC1; x", why="it has no policy p"))
        ),
        finds(
            f"{_SIGNED}\nx\n",
            given=_asked(
                Spf("kiln.org", "192.0.2.9", "fail", "v=spf1 -all"),
                (Dkim("elsewhere.net", "x", "pass"),),
                Dmarc("kiln.org", "kiln.org", "_dmarc.kiln.org", "v=DMARC1; p=reject", "reject"),
            ),
        ),
    ],
)
def find_dmarc(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """The domain of From has a DMARC record, and SPF or DKIM passes for that domain."""
    papers = _need_papers(message, context)
    dmarc = papers.dmarc
    if dmarc is None:
        raise CannotTell("no DMARC record was asked for")
    if dmarc.failed:
        raise CannotTell(f"nobody answered for the DMARC record of {dmarc.domain}: {dmarc.why}")
    place, data = _from(message), {"domain": dmarc.domain, "name": dmarc.found_at}
    publish = f"Publish as TXT at _dmarc.{dmarc.organisation}: {dmarc_to_publish(dmarc)}"
    if not dmarc.record:
        yield Hit("{domain} has no DMARC record.", place, data, identity="record", fix=publish)
        return
    if dmarc.why:
        yield Hit("The DMARC record at {name} is not used: {why}.", place, data | {"why": dmarc.why}, identity="record", fix=publish)
        return
    if dmarc.aligned:
        return
    if not _is_enforced(papers, is_as_sent(message)):
        raise CannotTell("neither a sending host nor a signature is known, so nobody can say whether they are aligned")
    yield Hit("Neither SPF nor DKIM passes for {domain}: {how}.", place, data | {"how": _how(papers)}, identity="alignment")


def _is_enforced(papers: Papers, as_sent: bool) -> bool:
    """Whether both of what DMARC rests on are known: what SPF says, and what signatures there are."""
    spf = papers.spf
    is_spf_known = spf is not None and bool(spf.host or spf.result in ("none", "permerror")) and spf.result != "temperror"
    return (
        is_spf_known
        and (not papers.dkim or all(one.result != "temperror" for one in papers.dkim))
        and bool(papers.dkim or as_sent or (spf and spf.host))
    )


def _how(papers: Papers) -> str:
    spf = papers.spf
    first = f"SPF says {spf.result} for {spf.domain}" if spf is not None else "no SPF"
    signatures = ", ".join(f"DKIM says {'pass' if one.result == 'planned' else one.result} for {one.domain}" for one in papers.dkim[:3])
    return f"{first}, {signatures or 'no signature'}"


@check(
    id="sending.bimi",
    name="No picture beside the sender",
    level=Level.NOTE,
    why="The domain could show its mark in inboxes that know BIMI, and does not.",
    fix="Publish a BIMI record that names the mark as SVG at an https address, or leave it.",
    basis="Common practice, no published source: draft-brand-indicators-for-message-identification (from memory)",
    samples=[
        clear(f"{_MAIL}\nx\n", given=_asked(bimi=Bimi("kiln.org", "v=BIMI1; l=https://kiln.org/m.svg", "https://kiln.org/m.svg"))),
        clear(
            f"{_MAIL}\nx\n",
            given=_asked(dmarc=Dmarc("kiln.org", "kiln.org", "_dmarc.kiln.org", "v=DMARC1; p=none", "none"), bimi=Bimi("kiln.org")),
        ),
        clear(f"{_MAIL}\nx\n"),
        finds(f"{_MAIL}\nx\n", given=_asked(bimi=Bimi("kiln.org"))),
        finds(
            f"{_MAIL}\nx\n",
            given=_asked(
                bimi=Bimi("kiln.org", "v=BIMI1; l=http://kiln.org/m.svg", "http://kiln.org/m.svg", "its picture is not at an https address")
            ),
        ),
    ],
)
def find_bimi(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Where DMARC is enforced, a BIMI record names a picture that loads."""
    papers = _need_papers(message, context)
    dmarc, bimi = papers.dmarc, papers.bimi
    if dmarc is None or bimi is None:
        raise CannotTell("no BIMI record was asked for")
    if dmarc.failed or bimi.failed:
        raise CannotTell(f"nobody answered: {dmarc.why or bimi.why}")
    if dmarc.policy not in ("quarantine", "reject") or dmarc.share < 100 or dmarc.why:
        raise DoesNotApply("DMARC is not enforced, so no inbox would show a picture")
    if not bimi.record:
        yield Hit("{domain} has no BIMI record.", _from(message), {"domain": bimi.domain}, identity="bimi")
    elif bimi.why:
        yield Hit(
            "The BIMI record of {domain}: {why}.", _from(message), {"domain": bimi.domain, "why": bimi.why.rstrip(".")}, identity="bimi"
        )
