"""Reading what the command line is given; everything unusable becomes one sentence and exit status 2."""

from __future__ import annotations

import ipaddress
from collections.abc import Mapping
from dataclasses import dataclass, field, fields, replace
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from jetwind.cli.telling import refuse
from jetwind.core.checking import Brief, Context, Kind, Rulebook, UnusableBrief, UnusableRulebook, registry, rulebook_from_toml, rulebooks
from jetwind.core.fields import LIQUID, Syntax, UnusableSyntax, from_toml
from jetwind.core.message import Envelope, Message, Sample, UnusableInput, read_bytes, read_path, with_envelope
from jetwind.core.message.package import LARGEST_INPUT
from jetwind.core.source.files import read_file, read_text, why
from jetwind.core.source.plain import FIRST_YEAR, LAST_YEAR, NotToml, Unfit, read, toml

if TYPE_CHECKING:
    from jetwind.engines.names import Zone


def address_of_host(value: str) -> str:
    """The sending host is an IP address, which comes back in its plain spelling."""
    try:
        return str(ipaddress.ip_address(value))
    except ValueError:
        refuse(f"--sending-host takes an IP address such as 192.0.2.7, not {value!r}.")


def zone_in(path: Path | None) -> Zone | None:
    """Name records of a file in master-file format, to be asked in the place of the DNS."""
    if path is None:
        return None
    from jetwind.engines.names import UnusableZone, Zone

    try:
        return Zone.load(path)
    except UnusableZone as wrong:
        refuse(f"the zone “{path}” cannot be used: {wrong}.")


def message_at(path: Path, syntax: Syntax = LIQUID) -> Message:
    """The message of a file or folder, its fields written in a syntax."""
    try:
        return read_path(path, syntax=syntax)
    except UnusableInput as refused:
        refuse(str(refused))


def octets_at(path: Path) -> bytes:
    """The octets of a message's file."""
    try:
        return read_file(path, LARGEST_INPUT)
    except OSError as failure:
        refuse(f"“{path}” cannot be read: {why(failure)}.")


def mails_at(*paths: Path) -> list[tuple[Message, bytes]]:
    """The mails of .eml files, each with its octets."""
    found = []
    for path in paths:
        data = octets_at(path)
        try:
            message = read_bytes(data, path.name)
        except UnusableInput as refused:
            refuse(str(refused))
        if message.form != "eml":
            refuse(f"“{path}” is no mail: a copy and its arrival are compared as .eml files.")
        found.append((message, data))
    return found


def syntax_in(path: Path | None) -> Syntax:
    """The field syntax that a TOML file describes (``docs/fields.md``); Liquid without one."""
    if path is None:
        return LIQUID
    try:
        return from_toml(read_text(path))
    except UnusableSyntax as unusable:
        refuse(f"The syntax “{path}” cannot be used: {unusable}.")
    except OSError as failure:
        refuse(f"The syntax “{path}” cannot be read: {why(failure)}.")


def words_in(path: Path | None) -> dict[str, str]:
    """The words for mends that need one, by check id or by the fingerprint of a finding: a TOML file with a line for each."""
    if path is None:
        return {}
    try:
        words = read(toml(read_text(path)), dict[str, str])
    except NotToml as failure:
        refuse(f"The words “{path}” cannot be read: {failure}.")
    except Unfit as unfit:
        refuse(
            f"The words “{path}” cannot be used: {str(unfit).removesuffix('.')}. A check with a dot in its id stands in quotation marks."
        )
    except OSError as failure:
        refuse(f"The words “{path}” cannot be read: {why(failure)}.")
    from jetwind.core.checking.mends import mends

    known = mends()
    for name in words:
        if "." in name and not any(own.asks for own in known.get(name, ())):
            refuse(f"The words “{path}” name “{name[:80]}”, whose mend needs no word, or which has none.")
    return words


def planned_time(value: str | None, now: datetime) -> tuple[datetime, bool]:
    """The planned time as given, or now; and whether it was given without a zone, which means each reader's own."""
    if value is None:
        return now, False
    try:
        planned = datetime.fromisoformat(value)
    except ValueError:
        refuse(f"--planned takes a time such as 2027-03-09T09:00+01:00, not {value[:60]!r}.")
    if not FIRST_YEAR <= planned.year <= LAST_YEAR:
        refuse(f"--planned takes a time of the years {FIRST_YEAR} to {LAST_YEAR}, not one of the year {planned.year}.")
    return (planned, False) if planned.tzinfo else (planned.astimezone(), True)


def readers_in(path: Path | None) -> tuple[tuple[Sample, ...], frozenset[str] | None]:
    """Sample readers of a CSV, vCard or JSON file, and the field list that they make."""
    if path is None:
        return (), None
    from jetwind.core.readers import UnusableReaders, read_readers
    from jetwind.core.readers.files import LARGEST_FILE

    try:
        found = read_readers(read_file(path, LARGEST_FILE))
    except OSError as failure:
        refuse(f"The readers “{path}” cannot be read: {why(failure)}.")
    except UnusableReaders as unusable:
        refuse(f"The readers “{path}” cannot be read: {unusable}.")
    return found.readers, frozenset(found.fields)


@dataclass(frozen=True)
class BriefFile:
    """The entries of a brief about a message: wording, fields, hosts, the house's words, and an envelope for HTML that has none."""

    brief: Brief = field(default_factory=Brief)
    fields: frozenset[str] = frozenset()
    practice_domains: frozenset[str] = frozenset()
    word_list: frozenset[str] = frozenset()
    working_title: str = ""
    envelope: Mapping[str, Any] = field(default_factory=dict)

    def asking(self, parameters: str | None) -> BriefFile:
        """With campaign parameters as the command line gives them: names, or names with values, parted by commas."""
        if parameters is None:
            return self
        given = {name.strip(): value.strip() for name, _, value in (one.partition("=") for one in parameters.split(",")) if name.strip()}
        try:
            return replace(self, brief=self.brief.asking(given))
        except UnusableBrief as unusable:
            refuse(f"--parameters: {unusable}")

    def on(self, message: Message) -> Message:
        """The message with the envelope that the brief gives; what it leaves out stays as it came."""
        if not self.envelope:
            return message
        sender = next(iter(message.mailboxes("From")), None)
        reply = next(iter(message.mailboxes("Reply-To")), None)
        there = {
            "subject": message.subject,
            "sender_name": sender.name if sender else "",
            "sender_address": sender.address if sender else "",
            "reply_address": reply.address if reply else "",
        }
        if set(self.envelope) <= {"subject_variants"} and message.envelope_known:
            return replace(message, variants=tuple(self.envelope["subject_variants"]))
        return with_envelope(message, Envelope.from_dict({**there, **self.envelope}))


def brief_in(path: Path | None) -> BriefFile:
    """The brief, a TOML file. ``[wording]`` has ``required`` and ``forbidden`` (they may also stand outside a table) and ``words``;

    ``[practice] domains`` are hosts that stand for real ones, ``[fields] known`` adds to the field list, ``[envelope]`` gives
    subject, sender_name, sender_address, reply_address, preview_text and subject_variants, ``title`` is the working title.
    """
    if path is None:
        return BriefFile()
    try:
        given = toml(read_text(path))
        tables = read(given, _Tables)
        known = {known.name for known in fields(Envelope)}
        if unknown := set(tables.envelope) - known:
            raise UnusableBrief(f"[envelope] has no “{min(unknown)}”; it has {', '.join(sorted(known))}.")
        read({"envelope": tables.envelope}, dict[str, Envelope])
        return BriefFile(
            Brief.from_dict(given),
            frozenset(tables.fields.known),
            practice_domains=frozenset(domain.lower() for domain in tables.practice.domains),
            word_list=frozenset(word.casefold() for word in tables.wording.words),
            working_title=tables.title,
            envelope=tables.envelope,
        )
    except NotToml as failure:
        refuse(f"The brief “{path}” cannot be read: {failure}.")
    except (UnusableBrief, Unfit) as refused:
        refuse(f"The brief “{path}” cannot be used: {str(refused).removesuffix('.')}.")
    except OSError as failure:
        refuse(f"The brief “{path}” cannot be read: {why(failure)}.")


@dataclass(frozen=True)
class _Fields:
    known: list[str] = field(default_factory=list)


@dataclass(frozen=True)
class _Practice:
    domains: list[str] = field(default_factory=list)


@dataclass(frozen=True)
class _Wording:
    words: list[str] = field(default_factory=list)


@dataclass(frozen=True)
class _Tables:
    """A brief file beside its required and forbidden wording."""

    title: str = ""
    fields: _Fields = field(default_factory=_Fields)
    practice: _Practice = field(default_factory=_Practice)
    wording: _Wording = field(default_factory=_Wording)
    envelope: dict[str, str | list[str]] = field(default_factory=dict)


def checks_named(only: list[str]) -> list[str] | None:
    """Check ids, given one or several to an option."""
    names = [name.strip() for part in only for name in part.split(",") if name.strip()]
    if not names:
        return None
    known = registry()
    for name in names:
        if name not in known:
            import difflib

            near = difflib.get_close_matches(name, known, 1)
            refuse(f"there is no check {name!r}" + (f"; the nearest is {near[0]}." if near else "."))
    return names


def profiles_named(value: str) -> list[str]:
    """Client profiles, parted by commas, or all."""
    from jetwind.core.profiles import profiles

    known = profiles()
    if value.strip() == "all":
        return list(known)
    names = [name.strip() for name in value.split(",") if name.strip()]
    for name in names:
        if name not in known:
            refuse(f"there is no profile {name!r}; there are {', '.join(known)}.")
    return names


def rulebooks_named(names: list[str]) -> tuple[frozenset[str], tuple[Rulebook, ...]]:
    """Rulebooks that ship, by id, and those of a house in TOML files, given one or several to an option."""
    chosen: set[str] = set()
    house: list[Rulebook] = []
    for name in dict.fromkeys(name.strip() for part in names for name in part.split(",") if name.strip()):
        if name in rulebooks():
            chosen.add(name)
        elif Path(name).exists():
            house.append(_rulebook_in(Path(name)))
            chosen.add(house[-1].id)
        else:
            refuse(f"there is no rulebook and no file {name!r}; there are {', '.join(rulebooks())}.")
    return frozenset(chosen), tuple(house)


def _rulebook_in(path: Path) -> Rulebook:
    try:
        return rulebook_from_toml(read_text(path), id=f"house:{path.name}")
    except OSError as failure:
        refuse(f"the rulebook “{path}” cannot be used: {why(failure)}.")
    except UnusableRulebook as wrong:
        refuse(f"the rulebook “{path}” cannot be used: {wrong}.")


def circumstances(
    details: BriefFile, kind: str, planned: str | None, readers: Path | None, previous: Path | None, rulebook: tuple[str, ...]
) -> Context:
    """The circumstances that the options and the brief give."""
    from jetwind.engines.dictionaries import Installed

    samples, known = readers_in(readers)
    now = datetime.now().astimezone()
    leaves, is_local = planned_time(planned, now)
    chosen, house = rulebooks_named(list(rulebook))
    return Context(
        kind=Kind(kind),
        planned=leaves,
        now=now,
        local_time=is_local and any(sample.values.get("time_zone") for sample in samples),
        readers=samples,
        known_fields=(known or frozenset()) | details.fields if known is not None or details.fields else None,
        practice_domains=details.practice_domains,
        previous=message_at(previous) if previous is not None else None,
        brief=details.brief,
        word_list=details.word_list,
        dictionaries=Installed(),
        working_title=details.working_title,
        rulebooks=chosen,
        house=tuple(book for book in house if book.holds(kind, (), (leaves or now).date())),
    )
